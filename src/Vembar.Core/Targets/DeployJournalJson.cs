using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Targets;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(DeployJournal))]
internal sealed partial class DeployJournalJson : JsonSerializerContext;

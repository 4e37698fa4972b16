using System.Text.Json.Serialization;

namespace Vembar.Volumes.Targets;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(DeployJournal))]
[JsonSerializable(typeof(DiskNote))]
internal sealed partial class DeployJournalJson : JsonSerializerContext;

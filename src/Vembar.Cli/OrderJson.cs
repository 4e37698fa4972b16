using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Archives;
using Vembar.Core.Compaction;
using Vembar.Core.Operations;
using Vembar.Core.Servicing;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Sources;
using Vembar.Core.Windows;

namespace Vembar.Cli;

internal sealed record OrderJson(string File, bool Ok, string Title, Vembar.Core.Content.ChunkId Hash, IReadOnlyDictionary<string, string> Variables, IReadOnlyList<OrderFileJson> Files, IReadOnlyList<OrderProblemJson> Problems);

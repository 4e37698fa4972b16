using System.Text.Json.Serialization;

namespace Vembar.Operations.Workspaces;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(WorkspaceState))]
[JsonSerializable(typeof(PendingSave))]
[JsonSerializable(typeof(MetadataLine))]
internal sealed partial class WorkspaceJson : JsonSerializerContext;

using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.Win32.SafeHandles;
using Vembar.Core.Archives;
using Vembar.Core.Content;
using Vembar.Core.Operations;
using Vembar.Core.Sources;
using Vembar.Core.Trees;
using Vembar.Native;

namespace Vembar.Core.Workspaces;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(WorkspaceState))]
[JsonSerializable(typeof(PendingSave))]
[JsonSerializable(typeof(MetadataLine))]
internal sealed partial class WorkspaceJson : JsonSerializerContext;

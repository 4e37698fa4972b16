using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Joining;

[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
[JsonSerializable(typeof(TaskNote))]
internal sealed partial class TaskNoteJson : JsonSerializerContext;

using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Machines;

/// <summary>How what is kept is written.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(MachineDocument))]
[JsonSerializable(typeof(TaskProgress))]
[JsonSerializable(typeof(Dictionary<string, string>))]
internal sealed partial class StationStateJson : JsonSerializerContext;

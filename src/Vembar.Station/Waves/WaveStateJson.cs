using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Waves;

/// <summary>How what is kept of waves is written.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(WaveDocument))]
[JsonSerializable(typeof(WavePlan))]
internal sealed partial class WaveStateJson : JsonSerializerContext;

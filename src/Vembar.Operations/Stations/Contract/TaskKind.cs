using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine is to do.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<TaskKind>))]
public enum TaskKind
{
    /// <summary>Write an image onto its disk.</summary>
    [JsonStringEnumMemberName("deploy")]
    Deploy,
    /// <summary>Capture its disk into an archive.</summary>
    [JsonStringEnumMemberName("capture")]
    Capture,
}

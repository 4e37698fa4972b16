using System.Text.Json.Serialization;

namespace Vembar.Operations.Builds;

/// <summary>How a build ended.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<BuildOutcome>))]
public enum BuildOutcome
{
    /// <summary>It has not ended, or it was killed.</summary>
    [JsonStringEnumMemberName("running")]
    Running,

    /// <summary>The image is in the archive, and all was done.</summary>
    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>The image is in the archive; something that comes after it failed.</summary>
    [JsonStringEnumMemberName("partly")]
    Partly,

    /// <summary>The archive is as it was.</summary>
    [JsonStringEnumMemberName("failed")]
    Failed,

    /// <summary>Somebody ended it; the archive is as it was.</summary>
    [JsonStringEnumMemberName("stopped")]
    Stopped,
}

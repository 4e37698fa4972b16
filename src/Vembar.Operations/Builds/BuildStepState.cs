using System.Text.Json.Serialization;

namespace Vembar.Operations.Builds;

/// <summary>How far a step of a build is.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<BuildStepState>))]
public enum BuildStepState
{
    /// <summary>Its turn has not come.</summary>
    [JsonStringEnumMemberName("waiting")]
    Waiting,

    /// <summary>It is at it.</summary>
    [JsonStringEnumMemberName("running")]
    Running,

    /// <summary>It was done.</summary>
    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>What an earlier run made of the same is used.</summary>
    [JsonStringEnumMemberName("reused")]
    Reused,

    /// <summary>It failed.</summary>
    [JsonStringEnumMemberName("failed")]
    Failed,

    /// <summary>Somebody ended it.</summary>
    [JsonStringEnumMemberName("stopped")]
    Stopped,

    /// <summary>There was nothing for it to do.</summary>
    [JsonStringEnumMemberName("skipped")]
    Skipped,
}

using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>Where a machine is on its way.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<MachineState>))]
public enum MachineState
{
    /// <summary>Listed, and never seen.</summary>
    [JsonStringEnumMemberName("new")]
    New,
    /// <summary>It waits for somebody who may approve it.</summary>
    [JsonStringEnumMemberName("waiting")]
    Waiting,
    /// <summary>Approved; it has not begun.</summary>
    [JsonStringEnumMemberName("ready")]
    Ready,
    /// <summary>It is at its task.</summary>
    [JsonStringEnumMemberName("working")]
    Working,
    /// <summary>Its task came to its end.</summary>
    [JsonStringEnumMemberName("done")]
    Done,
    /// <summary>And it is what was expected.</summary>
    [JsonStringEnumMemberName("checked")]
    Checked,
    /// <summary>Its task failed.</summary>
    [JsonStringEnumMemberName("failed")]
    Failed,
    /// <summary>Somebody stopped it.</summary>
    [JsonStringEnumMemberName("stopped")]
    Stopped,
}

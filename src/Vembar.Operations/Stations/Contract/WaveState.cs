using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>Where a wave is on its way.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<WaveState>))]
public enum WaveState
{
    /// <summary>Waits for machines, or for its time.</summary>
    [JsonStringEnumMemberName("waiting")]
    Waiting,

    /// <summary>Sends.</summary>
    [JsonStringEnumMemberName("sending")]
    Sending,

    /// <summary>All was sent; machines go on with what they have, and ask for what they lack.</summary>
    [JsonStringEnumMemberName("sent")]
    Sent,

    /// <summary>All its machines have ended.</summary>
    [JsonStringEnumMemberName("done")]
    Done,

    /// <summary>Somebody stopped it; its machines go on by themselves.</summary>
    [JsonStringEnumMemberName("stopped")]
    Stopped,

    /// <summary>It could not be sent; its machines go on by themselves.</summary>
    [JsonStringEnumMemberName("failed")]
    Failed,
}

namespace Vembar.Operations.Stations.Contract;

/// <summary>A wave: an image that many machines get at once.</summary>
public sealed record WaveInfo
{
    /// <summary>What it is called.</summary>
    public required string Id { get; init; }

    /// <summary>Where it is on its way.</summary>
    public required WaveState State { get; init; }

    /// <summary>The image, as people call it.</summary>
    public string Title { get; init; } = "";

    /// <summary>What was wanted.</summary>
    public required WaveRequest Request { get; init; }

    /// <summary>Where it is heard: address and port.</summary>
    public string Group { get; init; } = "";

    /// <summary>How fast it sends, in bits a second.</summary>
    public long Rate { get; init; }

    /// <summary>How much there is to send, in bytes; 0 before it is known.</summary>
    public long Bytes { get; init; }

    /// <summary>How much of it was sent, in bytes.</summary>
    public long Sent { get; init; }

    /// <summary>When it began to send, UTC; null for not yet.</summary>
    public DateTime? Began { get; init; }

    /// <summary>When all was sent, UTC; null for not yet.</summary>
    public DateTime? Ended { get; init; }

    /// <summary>What it waits for, or why it failed; may be empty.</summary>
    public string Remark { get; init; } = "";

    /// <summary>Its machines.</summary>
    public IReadOnlyList<WaveMember> Members { get; init; } = [];
}

using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Waves;

/// <summary>What is kept of a wave.</summary>
public sealed record WaveDocument
{
    /// <summary>What was wanted.</summary>
    public required WaveRequest Request { get; init; }

    /// <summary>Who wanted it, and may what.</summary>
    public required Caller By { get; init; }

    /// <summary>What makes it the same request when it comes again; null for nothing.</summary>
    public string? Key { get; init; }

    /// <summary>Machines that it is for, by their ids; none for all, or all of a site.</summary>
    public IReadOnlyList<string> Machines { get; init; } = [];

    /// <summary>The image, as people call it.</summary>
    public string Title { get; init; } = "";

    /// <summary>The archive's name.</summary>
    public string Archive { get; init; } = "";

    /// <summary>The image's number in it, and the hash of its root folder.</summary>
    public int Image { get; init; }

    /// <inheritdoc cref="Image"/>
    public string Root { get; init; } = "";

    /// <summary>The group's address.</summary>
    public string Group { get; init; } = "";

    /// <summary>The address that it is sent from.</summary>
    public string Source { get; init; } = "";

    /// <summary>Its first port; the wave's number is added.</summary>
    public int Port { get; init; }

    /// <summary>How fast it is sent, in bits a second.</summary>
    public long Rate { get; init; }

    /// <summary>How much there is to send, in bytes and in pieces; 0 before it is known.</summary>
    public long Bytes { get; init; }

    /// <summary>How many pieces were sent.</summary>
    public int Next { get; init; }

    /// <summary>How much was sent, in bytes.</summary>
    public long Sent { get; init; }

    /// <summary>When it began to send, UTC.</summary>
    public DateTime? Began { get; init; }

    /// <summary>When all was sent, UTC.</summary>
    public DateTime? Ended { get; init; }

    /// <summary>What it waits for, or why it failed.</summary>
    public string Remark { get; init; } = "";
}

namespace Vembar.Operations.Stations.Contract;

/// <summary>A machine as a station knows it.</summary>
public sealed record MachineInfo
{
    /// <summary>What the station calls it.</summary>
    public required string Id { get; init; }

    /// <summary>Counts the changes of it.</summary>
    public long Version { get; init; }

    /// <summary>Where it is on its way.</summary>
    public required MachineState State { get; init; }

    /// <summary>Who it is.</summary>
    public required MachineIdentity Identity { get; init; }

    /// <summary>The hardware model that it is taken for; else what its firmware says.</summary>
    public string Model { get; init; } = "";

    /// <summary>What it is to become.</summary>
    public Assignment Assignment { get; init; } = new();

    /// <summary>What it is at; null for nothing.</summary>
    public TaskKind? Task { get; init; }

    /// <summary>What it writes or makes, as people call it; empty for nothing.</summary>
    public string Title { get; init; } = "";

    /// <summary>How far it is; null for nothing.</summary>
    public TaskProgress? Progress { get; init; }

    /// <summary>What it waits for or why it failed, in a line; may be empty.</summary>
    public string Remark { get; init; } = "";

    /// <summary>When it was last heard of, UTC; null for never.</summary>
    public DateTime? Seen { get; init; }

    /// <summary>Since when it is in its state, UTC.</summary>
    public DateTime Since { get; init; }
}

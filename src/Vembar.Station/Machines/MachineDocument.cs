using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Machines;

/// <summary>What is kept of a machine beside what is looked for.</summary>
public sealed record MachineDocument
{
    /// <summary>Who it is.</summary>
    public MachineIdentity Identity { get; init; } = new();

    /// <summary>What it said of itself; null when it was never seen.</summary>
    public MachineReport? Report { get; init; }

    /// <summary>The model that it is taken for.</summary>
    public string Model { get; init; } = "";

    /// <summary>What it is to become.</summary>
    public Assignment Assignment { get; init; } = new();

    /// <summary>What it is at, without the texts that are filled in; null for nothing.</summary>
    public MachineTask? Task { get; init; }

    /// <summary>Whether it waits with that until its wave begins.</summary>
    public bool IsHeld { get; init; }

    /// <summary>What it was at before; null for nothing.</summary>
    public MachineTask? LastTask { get; init; }

    /// <summary>User files that are at the station and not yet back on its disk, the oldest first.</summary>
    public IReadOnlyList<KeptImage> Kept { get; init; } = [];

    /// <summary>How its last task ended; null for none.</summary>
    public TaskOutcome? Outcome { get; init; }

    /// <summary>What it waits for or why it failed.</summary>
    public string Remark { get; init; } = "";

    /// <summary>Since when it is in its state, UTC.</summary>
    public DateTime Since { get; init; }

    /// <summary>Whether it came with a list.</summary>
    public bool IsListed { get; init; }

    /// <summary>Whether it said that it leaves, and did not come again.</summary>
    public bool HasLeft { get; init; }

    /// <summary>Requests that were done already, the newest first, so that one that comes twice is done once.</summary>
    public IReadOnlyList<string> Requests { get; init; } = [];
}

using Vembar.Common;
using Vembar.Store.Places.Remote;

namespace Vembar.Operations.Stations.Joining;

/// <summary>How a machine joins a station.</summary>
public sealed record JoinOptions
{
    /// <summary>Addresses of stations; the next is tried when one does not answer.</summary>
    public required IReadOnlyList<string> Stations { get; init; }

    /// <summary>The disk that an image goes to, or that is captured; null for the machine's first.</summary>
    public string? Disk { get; init; }

    /// <summary>The machine's /sys, or a copy of another's.</summary>
    public string Sys { get; init; } = "/sys";

    /// <summary>The version of the starter that it runs; empty for none.</summary>
    public string Starter { get; init; } = "";

    /// <summary>Whether to end after the first task, however it ends.</summary>
    public bool Once { get; init; }

    /// <summary>How stations are talked to; the machine's key is added.</summary>
    public required PlaceOptions Places { get; init; }

    /// <summary>Told what the machine waits for or does, a line each time that it changes.</summary>
    public required Action<string> Tell { get; init; }

    /// <summary>Somebody at the machine who approves it; null where it waits for somebody at the station.</summary>
    public IAttendant? Attendant { get; init; }

    /// <summary>What to do against an error, in the words of the program; empty for nothing.</summary>
    public Func<VembarException, string> HintOf { get; init; } = problem => problem.Hint;
}

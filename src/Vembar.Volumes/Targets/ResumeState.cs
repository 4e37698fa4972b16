namespace Vembar.Volumes.Targets;

/// <summary>What a deployment knows of an earlier run of it that was broken off.</summary>
/// <param name="key">What tells this deployment from others, for one that can be gone on with; null for one of which nothing is left
/// when it is broken off.</param>
/// <param name="journal">The journal of the earlier run; null for none.</param>
internal sealed class ResumeState(string? key, DeployJournal? journal)
{
    private readonly bool _isSameStart = journal is { Start.Length: > 0 } && journal.Start == DeployJournal.PresentStart();
    private long _resumed;

    /// <summary>What tells this deployment from others.</summary>
    public string? Key => key;

    /// <summary>Whether an earlier run of this deployment was broken off here.</summary>
    public bool IsResuming => journal is not null;

    /// <summary>Whether the machine was not started anew since the oldest files were written: then all that was told to be written
    /// is.</summary>
    public bool IsSameStart => _isSameStart;

    /// <summary>Whether the target holds an unfinished deployment now.</summary>
    public bool HasBegun { get; set; }

    /// <summary>Paths that were there before the first run.</summary>
    public HashSet<string> KeptBefore { get; set; } = [.. journal?.Kept ?? []];

    /// <summary>Files that an earlier run had written whole.</summary>
    public long Resumed => _resumed;

    /// <summary>Counts a file that an earlier run had written whole.</summary>
    public void CountResumed() => Interlocked.Increment(ref _resumed);

    /// <summary>Whether something that is there was written by an earlier run.</summary>
    public bool IsOwn(PlannedEntry item) => IsResuming && !KeptBefore.Contains(item.Path.ToString());

    /// <summary>The journal of the first run.</summary>
    /// <param name="start">Which start of this machine it is; empty where that says nothing of the target.</param>
    public DeployJournal FirstJournal(string start) => new()
    {
        Key = key!,
        Start = start,
        Kept = [.. KeptBefore.Order(StringComparer.Ordinal)],
    };
}

using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Targets;

/// <summary>How a tree is written into a target.</summary>
internal sealed record TargetOptions
{
    /// <summary>Whether files that are there are left.</summary>
    public bool KeepExisting { get; init; }

    /// <summary>Whether to begin although there seems to be too little room.</summary>
    public bool SkipRoomCheck { get; init; }

    /// <summary>What tells this deployment from others, for one that can be gone on with when it is broken off; null for none.</summary>
    public string? Key { get; init; }

    /// <summary>Whether it is known that an earlier run of this deployment was broken off here, and that all there is is its.</summary>
    public bool GoesOn { get; init; }

    /// <summary>Called when all files are there, and before what tells that the target is not finished is taken away; null for
    /// nothing.</summary>
    public Action? BeforeEnd { get; init; }

    /// <summary>Which files are written compacted; on volumes only.</summary>
    public CompactionChoice Compact { get; init; }

    /// <summary>How much is done at once.</summary>
    public int Workers { get; init; } = Environment.ProcessorCount;

    /// <summary>Where times come from that an entry lacks.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;
}

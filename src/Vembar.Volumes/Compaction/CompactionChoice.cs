namespace Vembar.Volumes.Compaction;

/// <summary>Which files a deployment writes compacted.</summary>
public enum CompactionChoice
{
    /// <summary>None.</summary>
    None,
    /// <summary>Those that the source's volume kept so.</summary>
    Kept,
    /// <summary>These, and all program files but those that Windows needs to start.</summary>
    Programs,
}

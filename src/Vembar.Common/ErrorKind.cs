namespace Vembar.Common;

/// <summary>What kind of mistake or hindrance it is; each has an exit code of its own in the programs on top.</summary>
public enum ErrorKind
{
    /// <summary>What was asked for is not possible as it was asked.</summary>
    Usage,
    /// <summary>The input cannot be used: not there, malformed, refused by a rule.</summary>
    Input,
    /// <summary>The archive is damaged.</summary>
    Damaged,
    /// <summary>The surroundings are in the way: permission, no room, a lock held elsewhere, a missing library.</summary>
    Environment,
}

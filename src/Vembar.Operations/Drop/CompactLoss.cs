namespace Vembar.Operations.Drop;

/// <summary>What goes when an archive is compacted.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Bytes">Its length, in bytes.</param>
/// <param name="States">How many earlier states can be gone back to until then.</param>
/// <param name="Gone">Images that only those states list, with names and versions.</param>
/// <param name="Dependents">Archives beside it that are based on it: of what they need, only what its own images hold stays.</param>
public sealed record CompactLoss(string Archive, long Bytes, long States, IReadOnlyList<string> Gone, IReadOnlyList<string> Dependents)
{
    /// <summary>Whether anything goes that somebody may want back.</summary>
    public bool IsNothing => Gone.Count == 0 && Dependents.Count == 0 && States == 0;
}

using Vembar.Operations.Sign;

namespace Vembar.Operations.Verify;

/// <summary>What verifying found.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Blocks">Blocks read.</param>
/// <param name="Bytes">Bytes of the file that were checked.</param>
/// <param name="Damage">What is damaged.</param>
/// <param name="UncommittedTail">Bytes behind the last state.</param>
/// <param name="Repaired">What was healed.</param>
/// <param name="Seconds">Time taken.</param>
/// <param name="Bases">The archives that it is based on: that they hold what is needed was checked, not that it is whole there.</param>
/// <param name="Images">How many images it holds.</param>
/// <param name="IsRecordSingle">Whether a run was interrupted between the two copies of the last record: nothing is lost, and the next
/// change adds the second.</param>
public sealed record VerifyResult(
    string Archive, long Blocks, long Bytes, IReadOnlyList<Damage> Damage, long UncommittedTail, IReadOnlyList<Damage> Repaired,
    double Seconds, IReadOnlyList<string> Bases, int Images, bool IsRecordSingle)
{
    /// <summary>Whether each image is signed by somebody trusted; null where that was not asked.</summary>
    public IReadOnlyList<SignatureFinding>? Signatures { get; init; }

    /// <summary>True when nothing is damaged and nothing left over.</summary>
    public bool IsWhole => Damage.Count == 0 && UncommittedTail == 0 && !IsRecordSingle;

    /// <summary>True when all images are whole and signed as it was asked to be; what an interrupted run left may lie behind
    /// them.</summary>
    public bool IsSound => Damage.Count == 0 && Signatures?.Any(s => s.Signer is null) != true;

    /// <summary>True when it is whole, and signed as it was asked to be.</summary>
    public bool Ok => IsWhole && Signatures?.Any(s => s.Signer is null) != true;
}

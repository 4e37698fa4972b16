namespace Vembar.Images.Records;

/// <summary>Files that a volume keeps compacted.</summary>
/// <param name="Files">How many.</param>
/// <param name="Bytes">Bytes of their plain contents.</param>
/// <param name="Stored">Bytes that they take on the volume.</param>
public sealed record CompactedCount(long Files, long Bytes, long Stored)
{
    /// <summary>Both together.</summary>
    public CompactedCount Plus(CompactedCount other) =>
        other.Files == 0 ? this : new CompactedCount(Files + other.Files, Bytes + other.Bytes, Stored + other.Stored);
}

using System.Buffers.Binary;
using Vembar.Images.Nodes;
using Vembar.Volumes.Compaction;

namespace Vembar.Volumes.Sources;

/// <summary>What the tag of a reparse point says (MS-FSCC 2.1.2.1).</summary>
internal static class ReparseTag
{
    private const uint MountPoint = 0xA0000003, SymbolicLink = 0xA000000C, Dedup = 0x80000013;

    /// <summary>Why a file cannot be read that <see cref="KeepsContentElsewhere"/>, said of several.</summary>
    public const string Elsewhere = "keep their content in another file (an image file, or a store of deduplicated data)";

    /// <summary>Whether it leads elsewhere, so that nothing is in it: a junction, a mount point or a symbolic link. Others may be folders
    /// with files in them.</summary>
    /// <param name="reparse">Tag and data; null for no reparse point.</param>
    public static bool IsLink(byte[]? reparse) => Of(reparse) is MountPoint or SymbolicLink;

    /// <summary>Whether a file's content is not in its data stream, and not compacted in its own stream either: in another file.</summary>
    public static bool KeepsContentElsewhere(byte[]? reparse) =>
        Of(reparse) is Dedup || (Of(reparse) is CompactedForms.Tag && CompactedForms.Of(reparse) == CompactedForm.None);

    private static uint Of(byte[]? reparse) => reparse is { Length: >= 4 } ? BinaryPrimitives.ReadUInt32LittleEndian(reparse) : 0;
}

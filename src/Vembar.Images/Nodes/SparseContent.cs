using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>Content that is mostly holes: its hash is made of its parts, for to hash the zeros of a hole takes as long as to hash
/// data.</summary>
internal static class SparseContent
{
    /// <summary>How many bytes of holes make it so.</summary>
    public const long Least = 1L << 30;

    /// <summary>The hash: BLAKE3 of the byte 'S' and the parts, as a list of parts has them. docs/archive-format.md, "Trees".</summary>
    public static ChunkId HashOf(IReadOnlyList<ContentPart> parts)
    {
        var data = new BinaryFormatWriter().Byte((byte)'S');
        FolderWriter.WriteParts(data, parts);
        return Blake3.Hash(data.Written);
    }
}

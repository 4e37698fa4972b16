using Vembar.Common;
using Vembar.Store.Hashing;

namespace Vembar.Store.Reading;

/// <summary>How an archive is opened although its index or its list of images may be damaged.</summary>
/// <param name="others">Archives to look in for records that are damaged in both copies.</param>
internal sealed class Mending(params IReadOnlyList<ArchiveReader> others)
{
    /// <summary>Records that were found in other archives alone.</summary>
    public Dictionary<ChunkId, ReadOnlyMemory<byte>> Found { get; } = [];

    /// <summary>A record from another archive; null when none has it.</summary>
    public ReadOnlyMemory<byte>? Elsewhere(ChunkId id)
    {
        foreach (var other in others)
        {
            try
            {
                return Found[id] = other.ReadRecord(id);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                // The next one may have it.
            }
        }
        return null;
    }
}

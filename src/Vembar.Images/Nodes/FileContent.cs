using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>What a file or stream holds. Kept small: there is one for every file of an image.</summary>
public sealed class FileContent
{
    // Nothing for a single chunk, the parts, or the id of the chunk that lists them.
    private readonly object? _form;

    /// <summary>Content of one chunk, or of parts.</summary>
    /// <param name="length">Bytes.</param>
    /// <param name="hash">BLAKE3 of all of it.</param>
    /// <param name="parts">The pieces in order.</param>
    public FileContent(long length, ChunkId hash, IReadOnlyList<ContentPart> parts)
    {
        Length = length;
        Hash = hash;
        _form = parts is [{ IsHole: false } only] && only.Id == hash && only.Length == length ? null : parts;
    }

    /// <summary>Content of a single chunk.</summary>
    internal FileContent(long length, ChunkId hash)
    {
        Length = length;
        Hash = hash;
    }

    /// <summary>Content whose pieces are listed in a chunk of their own.</summary>
    public FileContent(long length, ChunkId hash, ChunkId list)
    {
        Length = length;
        Hash = hash;
        _form = list;
    }

    /// <summary>Whether it is a single chunk, whose id is then the hash.</summary>
    internal bool IsOneChunk => _form is null;

    /// <summary>Bytes.</summary>
    public long Length { get; }

    /// <summary>BLAKE3 of all of it, as b3sum prints.</summary>
    public ChunkId Hash { get; }

    /// <summary>The pieces in order; null when they are in a list of their own.</summary>
    public IReadOnlyList<ContentPart>? Parts => _form switch
    {
        null => [new ContentPart(Hash, Length)],
        ChunkId => null,
        _ => (IReadOnlyList<ContentPart>)_form,
    };

    /// <summary>The chunk that holds the list of pieces; none when they are given here.</summary>
    public ChunkId List => _form is ChunkId list ? list : default;

    /// <summary>No bytes at all.</summary>
    public static FileContent Empty { get; } = new(0, Blake3.Hash([]), []);
}

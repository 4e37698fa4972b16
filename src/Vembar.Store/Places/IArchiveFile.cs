namespace Vembar.Store.Places;

/// <summary>An open file of a <see cref="IFileSystem"/>. Reads may come from several threads at once, writes from one.</summary>
public interface IArchiveFile : IDisposable
{
    /// <summary>The present length in bytes.</summary>
    long Length { get; }

    /// <summary>Reads from a place; returns fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>The stretches of a part of the file that hold data, in order; what is between them is holes. All of it where that cannot
    /// be told.</summary>
    IReadOnlyList<(long Start, long End)> DataRanges(long from, long to) => [(from, to)];

    /// <summary>Writes all bytes at a place.</summary>
    void Write(ReadOnlySpan<byte> bytes, long offset);

    /// <summary>Returns when all that was written is durable.</summary>
    void Sync();

    /// <summary>Cuts the file to a length.</summary>
    void Truncate(long length);

    /// <summary>Takes the exclusive lock; false when another process or handle has it.</summary>
    bool TryLock();

    /// <summary>True while the path still names this very file.</summary>
    bool IsStillAt(string path);
}

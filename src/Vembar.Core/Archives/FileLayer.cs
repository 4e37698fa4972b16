using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Core.Archives;

/// <summary>The few things that an archive needs of a file system; tests put one in its place that stops at a chosen operation.</summary>
public interface IFileLayer
{
    /// <summary>Opens a file that exists.</summary>
    IArchiveFile Open(string path, bool write);

    /// <summary>Makes a file; fails when the name is taken.</summary>
    IArchiveFile CreateNew(string path);

    /// <summary>Gives a file another name in the same folder and makes that durable. Fails when the name is taken, unless it may be replaced.</summary>
    void Rename(string from, string to, bool replace);

    /// <summary>Removes a file.</summary>
    void Delete(string path);
}

/// <summary>An open file of a <see cref="IFileLayer"/>. Reads may come from several threads at once, writes from one.</summary>
public interface IArchiveFile : IDisposable
{
    /// <summary>The present length in bytes.</summary>
    long Length { get; }

    /// <summary>Reads from a place; returns fewer bytes than asked only at the end.</summary>
    int Read(Span<byte> to, long offset);

    /// <summary>The stretches of a part of the file that hold data, in order; what is between them is holes. All of it where that cannot be told.</summary>
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

/// <summary>The real file system.</summary>
public sealed class SystemFileLayer : IFileLayer
{
    /// <summary>The one instance; it has no state.</summary>
    public static SystemFileLayer Instance { get; } = new();

    /// <inheritdoc/>
#pragma warning disable CA2000 // owned by what is returned
    public IArchiveFile Open(string path, bool write) => new SystemFile(Posix.OpenFile(path, write));
#pragma warning restore CA2000

    /// <inheritdoc/>
#pragma warning disable CA2000 // owned by what is returned
    public IArchiveFile CreateNew(string path) => new SystemFile(Posix.OpenFile(path, write: true, createNew: true));
#pragma warning restore CA2000

    /// <inheritdoc/>
    public void Rename(string from, string to, bool replace)
    {
        Posix.Rename(from, to, replace);
        var folder = Path.GetDirectoryName(Path.GetFullPath(to))!;
        using var handle = Posix.OpenFolder(null, PosixName.Encode(folder), followLink: true);
        Posix.Sync(handle);
    }

    /// <inheritdoc/>
    public void Delete(string path) => Posix.Remove(null, PosixName.Encode(path), folder: false);

    private sealed class SystemFile(SafeFileHandle handle) : IArchiveFile
    {
        public long Length => RandomAccess.GetLength(handle);

        public int Read(Span<byte> to, long offset)
        {
            var done = 0;
            while (done < to.Length)
            {
                var count = RandomAccess.Read(handle, to[done..], offset + done);
                if (count == 0)
                    break;
                done += count;
            }
            return done;
        }

        public IReadOnlyList<(long Start, long End)> DataRanges(long from, long to)
        {
            var ranges = new List<(long, long)>();
            for (var at = from; at < to;)
            {
                var (start, end) = Posix.NextData(handle, at, to);
                if (start < end)
                    ranges.Add((start, end));
                at = Math.Max(end, at + 1);
            }
            return ranges;
        }

        public void Write(ReadOnlySpan<byte> bytes, long offset)
        {
            const int WorthAHint = 1 << 18;
            Posix.Write(handle, bytes, offset);
            if (bytes.Length >= WorthAHint)
                Posix.BeginSync(handle, offset, bytes.Length);
        }

        public void Sync() => Posix.Sync(handle);

        public void Truncate(long length) => Posix.SetLength(handle, length);

        private bool _locked;

        public bool TryLock() => _locked = Posix.TryLock(handle);

        public bool IsStillAt(string path)
        {
            var own = Posix.Stat(handle);
            return Posix.TryStat(null, PosixName.Encode(path), out var there, followLink: true) && there.Inode == own.Inode && there.Device == own.Device;
        }

        public void Dispose()
        {
            if (_locked)
                Posix.Unlock(handle);
            _locked = false;
            handle.Dispose();
        }
    }
}

using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Store.Places;

/// <summary>The real file system.</summary>
public sealed class LocalFileSystem : IFileSystem
{
    /// <summary>The one instance; it has no state.</summary>
    public static LocalFileSystem Instance { get; } = new();

    /// <inheritdoc/>
#pragma warning disable CA2000 // owned by what is returned
    public IByteSource OpenRead(string path) => new SystemFile(Posix.OpenFile(path, write: false));
#pragma warning restore CA2000

    /// <inheritdoc/>
#pragma warning disable CA2000 // owned by what is returned
    public IArchiveFile OpenWrite(string path) => new SystemFile(Posix.OpenFile(path, write: true));
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
            return Posix.TryStat(null, PosixName.Encode(path), out var there, followLink: true) && there.Inode == own.Inode
                && there.Device == own.Device;
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

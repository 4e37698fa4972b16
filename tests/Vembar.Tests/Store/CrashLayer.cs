using Vembar.Store.Places;

namespace Vembar.Tests;

/// <summary>The power goes.</summary>
public sealed class PowerCutException() : Exception("the power is gone");

/// <summary>
/// A file layer that counts what changes files and stops for good at a chosen operation, with a write torn in the middle
/// if wanted. What was written stays on the disk as it is then.
/// </summary>
public sealed class CrashLayer(int stopAt, bool torn) : IFileSystem
{
    private readonly bool _torn = torn;
    private bool _dead;

    public int Operations { get; private set; }

    private void Count(Action<bool>? tear = null)
    {
        if (_dead)
            throw new PowerCutException();
        if (Operations++ == stopAt)
        {
            _dead = true;
            tear?.Invoke(true);
            throw new PowerCutException();
        }
    }

    public IByteSource OpenRead(string path) => LocalFileSystem.Instance.OpenRead(path);

    public IArchiveFile OpenWrite(string path) => new Wrapped(this, LocalFileSystem.Instance.OpenWrite(path));

    public IArchiveFile CreateNew(string path)
    {
        Count();
        return new Wrapped(this, LocalFileSystem.Instance.CreateNew(path));
    }

    public void Rename(string from, string to, bool replace)
    {
        Count();
        LocalFileSystem.Instance.Rename(from, to, replace);
    }

    public void Delete(string path)
    {
        Count();
        LocalFileSystem.Instance.Delete(path);
    }

    private sealed class Wrapped(CrashLayer layer, IArchiveFile file) : IArchiveFile
    {
        public long Length => file.Length;

        public int Read(Span<byte> to, long offset) => file.Read(to, offset);

        public void Write(ReadOnlySpan<byte> bytes, long offset)
        {
            var copy = bytes.ToArray();
            layer.Count(_ =>
            {
                if (layer._torn)
                    file.Write(copy.AsSpan(0, copy.Length * 2 / 3), offset);
            });
            file.Write(bytes, offset);
        }

        public void Sync()
        {
            layer.Count();
            file.Sync();
        }

        public void Truncate(long length)
        {
            layer.Count();
            file.Truncate(length);
        }

        public bool TryLock() => file.TryLock();

        public bool IsStillAt(string path) => file.IsStillAt(path);

        public void Dispose() => file.Dispose();
    }
}

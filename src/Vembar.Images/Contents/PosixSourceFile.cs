using Microsoft.Win32.SafeHandles;
using Vembar.Images.Nodes;
using Vembar.Native;

namespace Vembar.Images.Contents;

/// <summary>An open file of Linux.</summary>
internal sealed class PosixSourceFile : ISourceFile
{
    private readonly SafeFileHandle _handle;
    private readonly PosixStat _before;

    /// <summary>Takes over an open file.</summary>
    /// <exception cref="NativeException">It is no file, but a pipe or a device.</exception>
    public PosixSourceFile(SafeFileHandle handle)
    {
        _handle = handle;
        _before = Posix.Stat(handle);
        // What was a file when it was looked at may be a pipe by now.
        if (_before.Kind != PosixKind.File)
            throw new NativeException("read", "", Errno.NotAFile);
    }

    /// <summary>Opens a file.</summary>
    /// <exception cref="NativeException">It cannot be opened, or is no file, but a pipe or a device.</exception>
    public static PosixSourceFile Open(string path)
    {
        var handle = Posix.OpenFile(path, write: false);
        try
        {
            return new PosixSourceFile(handle);
        }
        catch
        {
            handle.Dispose();
            throw;
        }
    }

    public long Length => _before.Size;

    public int Read(Span<byte> to, long offset) => Posix.Read(_handle, to, offset);

    // Asking for holes costs a call, so only where less is allocated than the length says.
    public (long Start, long End) NextData(long offset) =>
        _before.Allocated >= _before.Size ? (offset, _before.Size) : Posix.NextData(_handle, offset, _before.Size);

    public bool HasChanged()
    {
        var now = Posix.Stat(_handle);
        return now.Size != _before.Size || now.Modified != _before.Modified || now.Changed != _before.Changed;
    }

    public void Dispose() => _handle.Dispose();
}

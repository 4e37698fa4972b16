using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A raw disk image or a block device of Linux.</summary>
public sealed class FileDevice : IBlockDevice
{
    private readonly SafeFileHandle _file;

    private FileDevice(string path, SafeFileHandle file, long length, bool write)
    {
        DisplayName = path;
        _file = file;
        Length = length;
        MayWrite = write;
    }

    /// <summary>Opens a file or a block device.</summary>
    /// <exception cref="VembarException">It is not there or must not be opened.</exception>
    public static FileDevice Open(string path, bool write)
    {
        try
        {
            var file = Posix.OpenFile(path, write);
            // A block device has no length of its own; its end is where seeking ends.
            return new FileDevice(path, file, Posix.EndOf(file), write);
        }
        catch (Exception failure) when (VembarException.From(failure, write ? "write the disk" : "open the disk", path) is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <inheritdoc/>
    public long Length { get; }

    /// <inheritdoc/>
    public bool MayWrite { get; }

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset) => Posix.Read(_file, to, offset);

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset) => Posix.Write(_file, from, offset);

    /// <inheritdoc/>
    public void Flush() => RandomAccess.FlushToDisk(_file);

    /// <inheritdoc/>
    public void Dispose() => _file.Dispose();
}

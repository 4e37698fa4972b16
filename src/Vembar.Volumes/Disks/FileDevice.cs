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

    /// <summary>A file that is open for reading.</summary>
    /// <param name="path">Its path, for messages.</param>
    /// <param name="file">The open file; closed with this.</param>
    internal static FileDevice Of(string path, SafeFileHandle file) => new(path, file, Posix.EndOf(file), write: false);

    /// <summary>Opens the same file again, whatever has its name now.</summary>
    /// <exception cref="VembarException">It must not be opened.</exception>
    internal FileDevice OpenAgain(bool write)
    {
        try
        {
            var file = Posix.OpenFile($"/proc/self/fd/{_file.DangerousGetHandle()}", write);
            return new FileDevice(DisplayName, file, Posix.EndOf(file), write);
        }
        catch (Exception failure) when (VembarException.From(failure, write ? "write the disk" : "open the disk", DisplayName) is { } error)
        {
            throw error;
        }
    }

    /// <summary>The open file.</summary>
    internal SafeFileHandle Handle => _file;

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
    public void Flush() => Posix.Sync(_file);

    /// <inheritdoc/>
    public void Dispose() => _file.Dispose();
}

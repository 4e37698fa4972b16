using Microsoft.Win32.SafeHandles;
using Vembar.Native;

namespace Vembar.Common.Files;

/// <summary>A folder for what is needed for a while, below a folder for temporary files. It goes with the work; where that was killed,
/// the next one that is made beside it takes it away.</summary>
public sealed class ScratchFolder : IDisposable
{
    private const string Beginning = "vembar-scratch-", Unready = ".vembar-scratch-";
    private const uint OwnerOnly = 0x1C0;
    private readonly SafeFileHandle _lock;

    private ScratchFolder(string path, SafeFileHandle handle) => (Path, _lock) = (path, handle);

    /// <summary>Its path.</summary>
    public string Path { get; }

    /// <summary>Makes one.</summary>
    /// <param name="parent">The folder for temporary files.</param>
    /// <exception cref="NativeException">It cannot be made.</exception>
    public static ScratchFolder Make(string parent)
    {
        RemoveLeft(parent);
        var name = Guid.NewGuid().ToString("N");
        // Locked before it has the name by which others look for it.
        var unready = System.IO.Path.Combine(parent, Unready + name);
        Posix.MakeFolder(null, PosixName.Encode(unready), OwnerOnly);
#pragma warning disable CA2000 // owned by what is returned
        var handle = Posix.OpenFolder(null, PosixName.Encode(unready));
#pragma warning restore CA2000
        try
        {
            Posix.TryLock(handle);
            var path = System.IO.Path.Combine(parent, Beginning + name);
            Posix.Rename(unready, path, replace: false);
            return new ScratchFolder(path, handle);
        }
        catch
        {
            handle.Dispose();
            throw;
        }
    }

    // Those of this user that nobody holds.
    private static void RemoveLeft(string parent)
    {
        try
        {
            foreach (var left in Directory.EnumerateDirectories(parent, Beginning + "*"))
            {
                using var handle = Posix.OpenFolder(null, PosixName.Encode(left));
                if (Posix.Stat(handle).Uid == Posix.UserId && Posix.TryLock(handle))
                    Directory.Delete(left, recursive: true);
            }
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NativeException)
        {
            // Others take theirs away meanwhile; what cannot be read is not ours.
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_lock.IsClosed)
            return;
        try
        {
            if (Directory.Exists(Path))
                Directory.Delete(Path, recursive: true);
        }
        finally
        {
            _lock.Dispose();
        }
    }
}

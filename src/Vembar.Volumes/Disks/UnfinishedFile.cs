using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>A new file that has another name until it is whole, so that one that is not never passes for one that is. One that a run left
/// that was killed is used again; one that is being written is not touched.</summary>
public sealed class UnfinishedFile : IDisposable
{
    private const string Ending = ".unfinished";
    private readonly string _target;
    private readonly SafeFileHandle _lock;
    private bool _isDone;

    private UnfinishedFile(string target, SafeFileHandle handle) => (_target, _lock) = (target, handle);

    /// <summary>Its name until then.</summary>
    public string Path => _target + Ending;

    /// <summary>Makes it, empty.</summary>
    /// <param name="target">Its name when it is whole.</param>
    /// <exception cref="VembarException">It cannot be made, or another run writes it.</exception>
    public static UnfinishedFile Begin(string target)
    {
        try
        {
            while (true)
            {
#pragma warning disable CA2000 // disposed of by its owner
                var handle = Posix.OpenOrCreate(target + Ending);
#pragma warning restore CA2000
                if (!Posix.TryLock(handle))
                {
                    handle.Dispose();
                    throw VembarException.Environment("disk-in-use", $"'{target}' is being made by another run",
                        "Wait until that has ended, or name another file.");
                }
                // Who had it before may have given it its name, or taken it away.
                if (Posix.TryStat(null, PosixName.Encode(target + Ending), out var there)
                    && Posix.Stat(handle) is var own && (own.Device, own.Inode) == (there.Device, there.Inode))
                {
                    Posix.SetLength(handle, 0);
                    return new UnfinishedFile(target, handle);
                }
                handle.Dispose();
            }
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "make the disk image", target) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Gives it its name.</summary>
    /// <exception cref="VembarException">The name is taken meanwhile.</exception>
    public void Finish()
    {
        try
        {
            Posix.Rename(Path, _target, replace: false);
            _isDone = true;
        }
        catch (NativeException failure) when (failure.Errno == Errno.Exists)
        {
            throw VembarException.Input("target-exists", $"the target '{_target}' is there already", "Name a file that is not there.");
        }
        catch (Exception failure) when (VembarException.From(failure, "give its name to", _target) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Takes it away where it did not get its name.</summary>
    public void Dispose()
    {
        if (!_isDone && !_lock.IsClosed)
            File.Delete(Path);
        _lock.Dispose();
    }
}

using Vembar.Native;

namespace Vembar.Volumes.Targets;

/// <summary>An NTFS volume that is written.</summary>
/// <param name="volume">The volume, open.</param>
internal class TargetVolume(NtfsVolume volume) : IDisposable
{
    /// <summary>The volume; another object after <see cref="Settle"/>.</summary>
    public NtfsVolume Volume { get; protected set; } = volume;

    /// <summary>Called between two files, when nothing on the volume is open.</summary>
    public virtual void Settle()
    {
    }

    /// <summary>Closes the volume: what was written is there.</summary>
    public virtual void Close() => Volume.Close();

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    protected virtual void Dispose(bool disposing) => Volume.Dispose();
}

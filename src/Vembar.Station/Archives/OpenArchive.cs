using Vembar.Store.Places;

namespace Vembar.Station.Archives;

/// <summary>An archive that is open, for as long as it has readers.</summary>
/// <param name="place">Where it lies.</param>
/// <param name="files">Where its files are looked for.</param>
/// <param name="look">What told it from others when it was opened; empty for one that lies elsewhere.</param>
/// <param name="looked">When it was opened.</param>
internal sealed class OpenArchive(string place, IFileSystem files, string look, DateTimeOffset looked) : IDisposable
{
    private readonly ArchiveFile _file = ArchiveFile.Open(place, files);
    private readonly Lock _gate = new();
    private int _readers;
    private bool _isOld;

    /// <summary>What told it from others when it was opened.</summary>
    public string Look => look;

    /// <summary>When it was last seen that it is still right.</summary>
    public DateTimeOffset Looked { get; set; } = looked;

    /// <summary>A reader begins.</summary>
    public ArchiveLease Lease()
    {
        lock (_gate)
            _readers++;
        return new ArchiveLease(_file, Release);
    }

    private void Release()
    {
        lock (_gate)
        {
            if (--_readers == 0 && _isOld)
                _file.Dispose();
        }
    }

    /// <summary>Another one takes its place; it is closed when its last reader has ended.</summary>
    public void Dispose()
    {
        lock (_gate)
        {
            _isOld = true;
            if (_readers == 0)
                _file.Dispose();
        }
    }
}

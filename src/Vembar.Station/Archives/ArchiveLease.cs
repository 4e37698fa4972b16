namespace Vembar.Station.Archives;

/// <summary>A reader's hold on an archive.</summary>
/// <param name="file">The archive.</param>
/// <param name="done">Called when the reader ends.</param>
public sealed class ArchiveLease(ArchiveFile file, Action done) : IDisposable
{
    private int _ended;

    /// <summary>The archive.</summary>
    public ArchiveFile File => file;

    /// <inheritdoc/>
    public void Dispose()
    {
        if (Interlocked.Exchange(ref _ended, 1) == 0)
            done();
    }
}

using System.Globalization;
using Vembar.Native;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Station.Archives;

/// <summary>An archive's bytes as they are served: up to the end of its last state, whatever a writer is about to add.</summary>
/// <param name="Source">The bytes.</param>
/// <param name="Length">Where the last state ends.</param>
/// <param name="Tag">Tells it from other archives and from other states, as an entity tag.</param>
public sealed record ArchiveFile(IByteSource Source, long Length, string Tag) : IDisposable
{
    /// <summary>Opens it.</summary>
    /// <exception cref="Common.VembarException">It is not there, or damaged.</exception>
    public static ArchiveFile Open(string path, IFileSystem files)
    {
        using var reader = ArchiveReader.Open(path, files);
        // What is damaged is served too: those who read it see that, and decide themselves.
        var isWhole = !reader.IsNewerStateDamaged;
        var tag = $"\"{reader.StateTag}{(isWhole ? "" : "-damaged")}\"";
        var length = isWhole ? reader.CommittedLength : long.MaxValue;
#pragma warning disable CA2000 // owned by what is returned
        var source = files.OpenRead(path);
        if (PlaceAddress.IsRemote(path) && files.Blocks is { } kept)
            source = new KeptByteSource(source, kept, Math.Min(length, source.Length));
#pragma warning restore CA2000
        return new ArchiveFile(source, Math.Min(length, source.Length), tag);
    }

    /// <summary>Tells whether a file is still as it was; empty where there is none.</summary>
    internal static string LookOf(string path) => Posix.TryStat(null, PosixName.Encode(path), out var stat, followLink: true)
        ? string.Create(CultureInfo.InvariantCulture, $"{stat.Device}.{stat.Inode}.{stat.Size}.{stat.Modified}") : "";

    /// <inheritdoc/>
    public void Dispose() => Source.Dispose();
}

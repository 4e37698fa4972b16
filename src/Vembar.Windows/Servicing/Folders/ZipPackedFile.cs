using System.IO.Compression;
using Vembar.Common.Files;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A zip file. Its files are read where they lie.</summary>
#pragma warning disable CA1001 // it stays open as long as streams of it may be read; its handle closes itself
internal sealed class ZipPackedFile : PackedFile
#pragma warning restore CA1001
{
    private readonly Dictionary<string, ZipArchiveEntry> _entries = new(StringComparer.OrdinalIgnoreCase);

    private readonly ZipArchive _zip;

    /// <exception cref="InvalidDataException">It is not a zip file, damaged, or holds more than one may.</exception>
    /// <exception cref="Native.NativeException">It cannot be read.</exception>
    public ZipPackedFile(string path) : base(path)
    {
        _zip = new ZipArchive(InputFile.OpenRead(path), ZipArchiveMode.Read);
        foreach (var entry in _zip.Entries)
        {
            // A folder's name ends so.
            if (entry.FullName.EndsWith('/') || entry.FullName.EndsWith('\\'))
                continue;
            if (entry.IsEncrypted)
                throw new InvalidDataException("it is encrypted");
            if (Note(entry.FullName, entry.Length) is { } name)
                _entries.Add(name, entry);
        }
    }

    /// <inheritdoc/>
    public override Stream Open(string name)
    {
        try
        {
            lock (_zip)
                return new ZipEntryStream(_zip, _entries[name].Open(), Files[name], failure => ToError(failure, Path, BadZip));
        }
        catch (Exception failure) when (ToError(failure, Path, BadZip) is { } error)
        {
            throw error;
        }
    }
}

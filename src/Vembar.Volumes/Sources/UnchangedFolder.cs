using Microsoft.Win32.SafeHandles;
using Vembar.Images.Nodes;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>A folder that is as it was by all that can be told without reading its files: what is to be read, and what to note
/// then.</summary>
internal sealed class UnchangedFolder
{
    public List<SourceNode> Folders { get; } = [];
    public List<FileComparison.Known> ToRead { get; } = [];

    // The names of its files, where others read them.
    public PosixNames? Names { get; set; }
    public long Files { get; set; }
    public long Bytes { get; set; }
    public long Allocated { get; set; }
    public long Latest { get; set; }

    // Batches of files that are not read yet, and whether one of them differed.
    public int Left;
    public volatile bool Differs;

    /// <summary>Looks whether everything in a folder, but for what is in its folders, is as an earlier image has it. Then its folders are
    /// all that is made of it: no path, no entry, no node for a file.</summary>
    /// <returns>Null when it is not.</returns>
    public static UnchangedFolder? Compare(SourceNode folder, SafeFileHandle handle, SourceWalk walk)
    {
        if (walk.Earlier is not { } image || folder.Earlier is not { } earlier)
            return null;
        var names = walk.Names;
        var at = 0;
        var found = new UnchangedFolder();
        var same = image.Compare(earlier, page =>
        {
            var entries = new FolderPageScanner(page);
            while (entries.Next(out var entry))
            {
                if (!entry.IsPlain || at == names.Count || !entry.Name.SequenceEqual(names[at])
                    || !Posix.TryStat(handle, names.Raw(at), out var stat))
                    return false;
                var kind = stat.Kind switch
                {
                    PosixKind.File => EntryKind.File,
                    PosixKind.Folder => EntryKind.Folder,
                    PosixKind.Link =>
                    EntryKind.Link,
                    _ => (EntryKind?)null
                };
                if (kind != entry.Kind || entry.Modified != FileTime.From(stat.Modified)
                    || entry.Owner != new PosixOwner(stat.Mode, stat.Uid, stat.Gid))
                    return false;
                // The change time tells of everything else, where times are trusted.
                if (image.TrustsTimes ? !image.IsOlder(FileTime.From(stat.Changed).Ticks) : !LooksAlike(entry, handle, names.Raw(at)))
                    return false;
                found.Latest = Math.Max(found.Latest, FileTime.From(stat.Changed).Ticks);
                if (kind == EntryKind.Folder)
                    found.Folders.Add(new SourceNode(folder, new TreeEntry
                    {
                        Name = names.Text(at),
                        Kind = EntryKind.Folder,
                        Modified = entry.Modified,
                        Owner = entry.Owner,
                    })
                    { Earlier = entry.Folder });
                else
                    found.Files++;
                if (kind == EntryKind.File)
                {
                    // A file of several names is more than an entry of this folder.
                    if (stat.Size != entry.Length || stat.LinkCount != 1)
                        return false;
                    found.Bytes += stat.Size;
                    found.Allocated += Math.Min(stat.Size, stat.Allocated);
                    if (!image.TrustsTimes && stat.Size > 0)
                    {
                        // Holes are not read, so a file that has some takes the longer way.
                        if (stat.Allocated < stat.Size)
                            return false;
                        found.ToRead.Add(new FileComparison.Known(at, entry.Length, entry.Hash));
                    }
                }
                at++;
            }
            return true;
        });
        return same && at == names.Count ? found : null;
    }

    private static bool LooksAlike(EntryView entry, SafeFileHandle handle, ReadOnlySpan<byte> raw)
    {
        try
        {
            return !entry.HasAttributes && Posix.ListAttributes(handle, raw).Count == 0
                && (entry.Kind != EntryKind.Link
                || PosixName.Encode(Posix.ReadLink(handle, raw)).AsSpan()[..^1].SequenceEqual(entry.Target));
        }
        catch (NativeException)
        {
            return false;
        }
    }
}

using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>Makes single files and folders on an NTFS volume, with content and all that NTFS keeps of them.</summary>
/// <param name="place">The volume.</param>
/// <param name="image">The image that they are of.</param>
/// <param name="archive">Where their content is.</param>
/// <param name="options">How.</param>
/// <param name="unsupported">Told what cannot be kept.</param>
internal sealed class NtfsFileWriter(TargetVolume place, ImageTree image, ArchiveReader archive, TargetOptions options,
    UnsupportedFeatures unsupported)
{
    private readonly CompactionRule _compaction = new(options.Compact);
    private readonly Dictionary<ChunkId, uint> _security = [];

    /// <summary>Files that were written compacted.</summary>
    public CompactedCount Compacted { get; private set; } = new(0, 0, 0);

    /// <summary>Makes a file or folder with its security descriptor.</summary>
    public NtfsFile Create(NtfsFile parent, PlannedEntry item, bool isFolder)
    {
        var id = item.Entry.Security;
        var known = 0u;
        var isKnown = !id.IsNone && _security.TryGetValue(id, out known);
        var file = place.Volume.Create(parent, item.Entry.Name, isFolder, known, item.Path.ToString(),
            item.Entry.Attributes?.HasFlag(WindowsAttributes.Compressed) ?? false);
        try
        {
            if (item.Entry.PendingSecurity is { } own)
                file.SetSecurity(own);
            else if (!id.IsNone && !isKnown)
            {
                file.SetSecurity(archive.Read(id).Span);
                if (file.SecurityId != 0)
                    _security[id] = file.SecurityId;
            }
            return file;
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>Gives a file that was made its content and all that belongs to it, its times last.</summary>
    /// <param name="item">The file.</param>
    /// <param name="folder">The folder that it is in.</param>
    /// <param name="parent">That folder, open.</param>
    /// <param name="file">The file, open.</param>
    public void Fill(PlannedEntry item, ulong folder, ref NtfsFile parent, ref NtfsFile file)
    {
        var entry = item.Entry;
        if (entry.Attributes is { } attributes)
            file.SetAttributes((uint)(attributes & ~WindowsAttributes.Directory));
        var form = _compaction.FormFor(entry, item.Path);
        if (form != CompactedForm.None && !TryWriteCompacted(file, item, form))
            form = CompactedForm.None;
        if (entry.Length > 0 && form == CompactedForm.None)
        {
            using var data = file.OpenData();
            WriteContent(data, entry.New, entry.Content, item.Path);
        }
        ApplyMetadata(item, file);
        if (form != CompactedForm.None)
            file.SetReparse(CompactedForms.Reparse(form));
        else if (entry.Reparse is { } reparse)
            file.SetReparse(reparse);
        SetShortName(item, folder, ref parent, ref file);
        SetTimes(file, entry);
    }

    /// <summary>Gives a file or folder its named streams, extended attributes and object id.</summary>
    public void ApplyMetadata(PlannedEntry item, NtfsFile file)
    {
        var entry = item.Entry;
        foreach (var stream in entry.Streams)
        {
            using var data = file.AddStream(stream.Name);
            WriteContent(data, null, stream.Content, item.Path);
        }
        if (entry.ExtendedAttributes.Count > 0)
            file.SetExtendedAttributes(ExtendedAttributeList.Encode(entry.ExtendedAttributes));
        if (entry.ObjectId is { } objectId)
            Try("object ids", () => file.SetObjectId(objectId));
    }

    private void Try(string what, Action set)
    {
        try
        {
            set();
        }
        catch (NativeException failure) when (failure.Errno != Errno.NoSpace && failure.Errno != Errno.InputOutput)
        {
            unsupported.Record(what);
        }
    }

    /// <summary>Gives a file or folder its short name. The library closes both for this, so they are opened again.</summary>
    /// <param name="item">The file or folder.</param>
    /// <param name="folder">The folder that it is in.</param>
    /// <param name="parent">That folder, open.</param>
    /// <param name="file">The file or folder, open.</param>
    public void SetShortName(PlannedEntry item, ulong folder, ref NtfsFile parent, ref NtfsFile file)
    {
        if (item.Entry.ShortName is not { Length: > 0 } name)
            return;
        var displayName = item.Path.ToString();
        var reference = file.Number;
        if (!file.TrySetShortNameAndClose(parent, name))
            unsupported.Record("short names");
        parent = place.Volume.Open(folder, displayName);
        file = place.Volume.Open(reference, displayName);
    }

    /// <summary>Gives a file or folder its times.</summary>
    public void SetTimes(NtfsFile file, TreeEntry entry)
    {
        var modified = entry.Modified?.Ticks ?? FileTime.From(options.Clock.GetUtcNow().UtcDateTime).Ticks;
        file.SetTimes(entry.Created?.Ticks ?? modified, modified, entry.Changed?.Ticks ?? modified, entry.Accessed?.Ticks ?? modified);
    }

    // False, and nothing is written, when it would not take less room.
    private bool TryWriteCompacted(NtfsFile file, PlannedEntry item, CompactedForm form)
    {
        var (content, path) = (item.Entry.Content!, item.Path);
        if (!IsWorthwhile(content, path, form))
            return false;
        using (var data = file.AddStream(CompactedForms.Stream))
        {
            var compactor = new Compactor(form, content.Length, data.Write);
            var end = 0L;
            image.Pieces(content, () => path, (bytes, at) =>
            {
                compactor.AddZeros(at - end);
                compactor.Add(bytes);
                end = at + bytes.Length;
            });
            compactor.AddZeros(content.Length - end);
            compactor.Finish();
            data.Finish();
            Compacted = Compacted.Plus(new CompactedCount(1, content.Length, compactor.Stored));
        }
        // The content's own stream is one hole.
        using var plain = file.OpenData();
        plain.SetLength(content.Length);
        return true;
    }

    // Told by its first piece; most files have one only.
    private bool IsWorthwhile(FileContent content, WindowsPath path, CompactedForm form)
    {
        var (before, after) = (0L, 0L);
        if (image.Parts(content, path) is not [{ IsHole: false } first, ..])
            return content.Length > 0;
        image.Pieces(new FileContent(first.Length, first.Id), () => path, (bytes, _) =>
        {
            var compactor = new Compactor(form, bytes.Length, (_, _) => { });
            compactor.Add(bytes);
            compactor.Finish();
            (before, after) = (bytes.Length, compactor.Stored);
        });
        long Clusters(long length) => (length + place.Volume.ClusterSize - 1) / place.Volume.ClusterSize;
        return before == content.Length ? Clusters(after) < Clusters(before) : after * 10 < before * 9;
    }

    private void WriteContent(NtfsData data, NewContent? fresh, FileContent? content, WindowsPath path)
    {
        if (fresh is not null)
            data.Write(fresh.ToBytes(), 0);
        else
        {
            var end = 0L;
            image.Pieces(content!, () => path, (bytes, at) =>
            {
                // Made a hole first, so that it is not filled with zeros.
                if (at > end)
                    data.SetLength(at);
                data.Write(bytes, at);
                end = at + bytes.Length;
            });
            if (end < content!.Length)
                data.SetLength(content.Length);
        }
        data.Finish();
    }
}

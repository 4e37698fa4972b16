using System.IO.Hashing;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;

namespace Vembar.Images.Nodes;

/// <summary>Stores a folder as its entries come, in the order of their names; what a page holds is all that is kept.
/// docs/archive-format.md, "Trees".</summary>
/// <param name="sink">Where its pages go.</param>
internal sealed class FolderWriter(IChunkSink sink)
{
    // A folder with more entries is cut into pages, at names whose hash says so: an edit then rewrites one page.
    private const int OnePage = 2048, LongestPage = 8192;
    private const ulong PageMask = 1023;

    private readonly List<TreeEntry> _page = [];
    private readonly List<(string First, ChunkId Id, int Count)> _pages = [];
    private string? _last;
    private long _length;
    private bool _isLarge;

    /// <summary>Adds the next entry.</summary>
    public void Add(TreeEntry entry)
    {
        if (_last is not null && string.CompareOrdinal(_last, entry.Name) > 0)
            throw new InvalidOperationException($"'{entry.Name}' comes after '{_last}'");
        if (_last == entry.Name
            || (TreeLimits.NameProblem(entry.Name) is { } wrong && entry is not { Name: "", Kind: EntryKind.Folder }))
            throw new InvalidOperationException($"'{entry.Name}' cannot be stored beside '{_last}'");
        if (TreeLimits.EntryProblem(entry) is { } problem)
            throw VembarException.Input("entry-too-large", $"'{entry.Name}' cannot be stored: {problem}",
                Advice.Of("entry-too-large"));
        _last = entry.Name;
        var length = TreeLimits.LengthOf(entry);
        if (!_isLarge && _page.Count < OnePage && _length + length <= TreeLimits.PageLength)
        {
            _page.Add(entry);
            _length += length;
            return;
        }
        if (!_isLarge)
        {
            // Now that it is known to be large, it is cut from the beginning.
            _isLarge = true;
            TreeEntry[] first = [.. _page];
            _page.Clear();
            _length = 0;
            foreach (var earlier in first)
                Cut(earlier, TreeLimits.LengthOf(earlier));
        }
        Cut(entry, length);
    }

    private void Cut(TreeEntry entry, long length)
    {
        var cut = (XxHash3.HashToUInt64(Wtf8.Encode(entry.Name)) & PageMask) == 0;
        if (_page.Count > 0 && (cut || _page.Count >= LongestPage || _length + length > TreeLimits.PageLength))
            Close();
        _page.Add(entry);
        _length += length;
    }

    private void Close()
    {
        _pages.Add((_page[0].Name, sink.Add(BlockKind.Tree, EncodePage(sink, _page)), _page.Count));
        _page.Clear();
        _length = 0;
    }

    /// <summary>Stores what is left and returns the folder's id.</summary>
    public ChunkId Finish()
    {
        if (!_isLarge)
            return sink.Add(BlockKind.Tree, EncodePage(sink, _page));
        Close();
        var index = new BinaryFormatWriter().Byte(TreeFormat.FolderIndex).Number((ulong)_pages.Count);
        foreach (var (first, id, count) in _pages)
            index.Text(first).Id(id).Number((ulong)count);
        return sink.Add(BlockKind.Tree, index.Written);
    }

    /// <summary>Stores a folder's entries and returns its id. The entries are sorted here.</summary>
    public static ChunkId Write(IChunkSink sink, List<TreeEntry> entries)
    {
        entries.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        var folder = new FolderWriter(sink);
        foreach (var entry in entries)
            folder.Add(entry);
        return folder.Finish();
    }

    private static byte[] EncodePage(IChunkSink sink, List<TreeEntry> entries)
    {
        var securities = entries.Where(e => !e.Security.IsNone).Select(e => e.Security).Distinct().ToList();
        var places = securities.Select((id, i) => (id, i)).ToDictionary(s => s.id, s => s.i);
        var data = new BinaryFormatWriter().Byte(TreeFormat.FolderPage).Number((ulong)securities.Count);
        foreach (var id in securities)
            data.Id(id);
        data.Number((ulong)entries.Count);
        foreach (var entry in entries)
            Write(sink, data, entry, places);
        return data.Written.ToArray();
    }

    private static void Write(IChunkSink sink, BinaryFormatWriter data, TreeEntry e, Dictionary<ChunkId, int> securities)
    {
        if (e.New is not null)
            throw new InvalidOperationException($"the content of '{e.Name}' was not stored");
        TreeField fields = 0;
        void Mark(bool present, TreeField field) => fields |= present ? field : 0;
        Mark(e.Attributes is not null, TreeField.Attributes);
        Mark(e.Modified is not null, TreeField.Modified);
        Mark(e.Created is not null, TreeField.Created);
        Mark(e.Changed is not null, TreeField.Changed);
        Mark(e.Accessed is not null, TreeField.Accessed);
        Mark(e.Modified is { Rest: > 0 }, TreeField.ModifiedRest);
        Mark(e.Content is not null, TreeField.Content);
        Mark(e.Kind == EntryKind.Folder, TreeField.Folder);
        Mark(e.LinkTarget is not null, TreeField.LinkTarget);
        Mark(!e.Security.IsNone, TreeField.Security);
        Mark(e.Reparse is not null, TreeField.Reparse);
        Mark(e.ShortName is not null, TreeField.ShortName);
        Mark(e.LinkGroup != 0, TreeField.LinkGroup);
        Mark(e.ObjectId is not null, TreeField.ObjectId);
        Mark(e.ExtendedAttributes.Count > 0, TreeField.ExtendedAttributes);
        Mark(e.Streams.Count > 0, TreeField.Streams);
        Mark(e.Owner is not null, TreeField.Owner);
        Mark(e.PosixAttributes.Count > 0, TreeField.PosixAttributes);
        Mark(e.CaseSensitive, TreeField.CaseSensitive);
        Mark(e.Compaction != CompactedForm.None, TreeField.Compaction);
        data.Text(e.Name).Byte((byte)e.Kind).Number((ulong)fields);
        if (e.Attributes is { } attributes)
            data.Number((ulong)attributes);
        foreach (var time in (ReadOnlySpan<FileTime?>)[e.Modified, e.Created, e.Changed, e.Accessed])
        {
            if (time is { } t)
                data.UInt64((ulong)t.Ticks);
        }
        if (e.Modified is { Rest: > 0 and var rest })
            data.Byte(rest);
        if (e.Content is not null)
            WriteContent(sink, data, e.Content);
        if (e.Kind == EntryKind.Folder)
            data.Id(e.Folder);
        if (e.LinkTarget is not null)
            data.Text(e.LinkTarget);
        if (!e.Security.IsNone)
            data.Number((ulong)securities[e.Security]);
        if (e.Reparse is not null)
            data.Block(e.Reparse);
        if (e.ShortName is not null)
            data.Text(e.ShortName);
        if (e.LinkGroup != 0)
            data.UInt64(e.LinkGroup);
        if (e.ObjectId is not null)
            data.Block(e.ObjectId);
        WriteValues(data, e.ExtendedAttributes);
        if (e.Streams.Count > 0)
        {
            data.Number((ulong)e.Streams.Count);
            foreach (var stream in e.Streams)
            {
                data.Text(stream.Name);
                WriteContent(sink, data, stream.Content);
            }
        }
        if (e.Owner is { } owner)
            data.Number(owner.Mode).Number(owner.Uid).Number(owner.Gid);
        WriteValues(data, e.PosixAttributes);
        if (e.Compaction != CompactedForm.None)
            data.Byte((byte)e.Compaction);
    }

    private static void WriteValues(BinaryFormatWriter data, IReadOnlyList<NamedValue> values)
    {
        if (values.Count == 0)
            return;
        data.Number((ulong)values.Count);
        foreach (var value in values)
            data.Byte(value.Flags).Text(value.Name).Block(value.Value);
    }

    // 0: none; 1: one chunk, whose id is the content's hash; 2: parts; 3: parts in a chunk of their own.
    private static void WriteContent(IChunkSink sink, BinaryFormatWriter data, FileContent content)
    {
        data.Number((ulong)content.Length);
        if (content.Length == 0)
            return;
        if (content.Parts is [{ IsHole: false } only] && only.Id == content.Hash)
            data.Byte(1).Id(content.Hash);
        else if (content.Parts is { Count: <= TreeFormat.InlineParts })
        {
            data.Byte(2).Id(content.Hash);
            WriteParts(data, content.Parts);
        }
        else
        {
            var list = content.List;
            if (content.Parts is not null)
            {
                var parts = new BinaryFormatWriter().Byte(TreeFormat.PartList);
                WriteParts(parts, content.Parts);
                list = sink.Add(BlockKind.Tree, parts.Written);
            }
            data.Byte(3).Id(content.Hash).Id(list);
        }
    }

    internal static void WriteParts(BinaryFormatWriter data, IReadOnlyList<ContentPart> parts)
    {
        data.Number((ulong)parts.Count);
        foreach (var part in parts)
        {
            data.Number(((ulong)part.Length << 1) | (part.IsHole ? 1u : 0));
            if (!part.IsHole)
                data.Id(part.Id);
        }
    }
}

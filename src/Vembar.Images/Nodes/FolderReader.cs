using Vembar.Common.Formats;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;

namespace Vembar.Images.Nodes;

/// <summary>Reads folder nodes and lists of parts. docs/archive-format.md, "Trees".</summary>
internal static class FolderReader
{
    /// <summary>All entries of a folder, sorted by name.</summary>
    /// <exception cref="BinaryFormatException">The node makes no sense.</exception>
    public static List<TreeEntry> Read(IChunkSource source, ChunkId id) => [.. Entries(source, id)];

    /// <summary>All entries of a folder, sorted by name, read a page at a time.</summary>
    /// <exception cref="BinaryFormatException">The node makes no sense.</exception>
    public static IEnumerable<TreeEntry> Entries(IChunkSource source, ChunkId id)
    {
        var node = source.Read(id);
        var entries = new List<TreeEntry>();
        string? last = null;
        foreach (var page in Index(node.Span, id))
        {
            entries.Clear();
            ReadPage(page.Id == id ? node.Span : source.Read(page.Id).Span, entries);
            foreach (var entry in entries)
            {
                if (last is not null && string.CompareOrdinal(last, entry.Name) >= 0)
                    throw new BinaryFormatException($"folder {id}", 0, "its entries are not in order");
                last = entry.Name;
                yield return entry;
            }
        }
    }

    /// <summary>The chunks that a folder's entries are in; more than one when it is large.</summary>
    public static IReadOnlyList<ChunkId> Pages(IChunkSource source, ChunkId id) => [.. Index(source.Read(id).Span, id).Select(p => p.Id)];

    // The pages of a folder, each with its first name; a folder that is a page itself begins anywhere.
    private static (string First, ChunkId Id)[] Index(ReadOnlySpan<byte> node, ChunkId id)
    {
        if (node is [TreeFormat.FolderPage, ..])
            return [("", id)];
        var reader = new BinaryFormatReader(node, $"folder {id}");
        if (reader.Byte() != TreeFormat.FolderIndex)
            throw reader.Error("it does not begin as one");
        var pages = new (string, ChunkId)[reader.Count(ChunkId.Length + 2)];
        for (var i = 0; i < pages.Length; i++)
        {
            pages[i] = (reader.Text(), reader.Id());
            reader.Number();
        }
        reader.End();
        return pages;
    }

    /// <summary>Looks for an entry in a large folder, in the one page that can hold it.</summary>
    /// <returns>False when the folder is not large, so that nothing was looked for.</returns>
    /// <exception cref="BinaryFormatException">The node makes no sense.</exception>
    public static bool TryFindInPages(IChunkSource source, ChunkId id, string name, out TreeEntry? entry)
    {
        entry = null;
        var pages = Index(source.Read(id).Span, id);
        if (pages.Length <= 1)
            return false;
        var at = Array.FindLastIndex(pages, p => string.CompareOrdinal(p.First, name) <= 0);
        if (at < 0)
            return true;
        var entries = new List<TreeEntry>();
        ReadPage(source.Read(pages[at].Id).Span, entries);
        entry = entries.Find(e => e.Name == name);
        return true;
    }

    private static void ReadPage(ReadOnlySpan<byte> bytes, List<TreeEntry> entries)
    {
        var reader = new BinaryFormatReader(bytes, "folder page");
        if (reader.Byte() != TreeFormat.FolderPage)
            throw reader.Error("it does not begin as one");
        var securities = new ChunkId[reader.Count(ChunkId.Length)];
        for (var i = 0; i < securities.Length; i++)
            securities[i] = reader.Id();
        var count = reader.Count(3);
        entries.EnsureCapacity(entries.Count + count);
        object? owner = null;
        for (var i = 0; i < count; i++)
            entries.Add(ReadEntry(ref reader, securities, ref owner));
        reader.End();
    }

    private static TreeEntry ReadEntry(ref BinaryFormatReader r, ChunkId[] securities, ref object? lastOwner)
    {
        var name = r.Text();
        // The root alone has no name; whoever reads folders knows which one it is.
        if (name.Length > 0 && TreeLimits.NameProblem(name) is { } wrong)
            throw r.Error(wrong);
        var kind = (EntryKind)r.Byte();
        if (kind is < EntryKind.File or > EntryKind.Link)
            throw r.Error($"entry kind {(byte)kind} is unknown");
        var fields = (TreeField)r.Number();
        if ((fields & ~TreeField.All) != 0)
            throw r.Error("an entry has fields that this Vembar does not know");
        WindowsAttributes? attributes = fields.HasFlag(TreeField.Attributes) ? (WindowsAttributes)r.Number() : null;
        FileTime? modified = fields.HasFlag(TreeField.Modified) ? new FileTime(r.Int64()) : null;
        FileTime? created = fields.HasFlag(TreeField.Created) ? new FileTime(r.Int64()) : null;
        FileTime? changed = fields.HasFlag(TreeField.Changed) ? new FileTime(r.Int64()) : null;
        FileTime? accessed = fields.HasFlag(TreeField.Accessed) ? new FileTime(r.Int64()) : null;
        if (fields.HasFlag(TreeField.ModifiedRest))
            modified = new FileTime(modified?.Ticks ?? throw r.Error("a rest without a time"), r.Byte());
        var content = fields.HasFlag(TreeField.Content) ? ReadContent(ref r) : null;
        var folder = fields.HasFlag(TreeField.Folder) ? r.Id() : default;
        var target = fields.HasFlag(TreeField.LinkTarget) ? r.Text() : null;
        if (content is null == (kind == EntryKind.File) || folder.IsNone == (kind == EntryKind.Folder)
            || target is null == (kind == EntryKind.Link))
            throw r.Error("an entry has fields that do not go with its kind");
        var security = default(ChunkId);
        if (fields.HasFlag(TreeField.Security))
            security = r.Number() is var place && place < (ulong)securities.Length ? securities[place]
                : throw r.Error("a security descriptor that is not listed");
        return new TreeEntry
        {
            Name = name,
            Kind = kind,
            Attributes = attributes,
            Modified = modified,
            Created = created,
            Changed = changed,
            Accessed = accessed,
            Content = content,
            Folder = folder,
            LinkTarget = target,
            Security = security,
            Reparse = fields.HasFlag(TreeField.Reparse) ? r.Block().ToArray() : null,
            ShortName = fields.HasFlag(TreeField.ShortName) ? r.Text() : null,
            LinkGroup = fields.HasFlag(TreeField.LinkGroup) ? r.UInt64() : 0,
            ObjectId = fields.HasFlag(TreeField.ObjectId) ? r.Block().ToArray() : null,
            ExtendedAttributes = fields.HasFlag(TreeField.ExtendedAttributes) ? ReadValues(ref r) : [],
            Streams = fields.HasFlag(TreeField.Streams) ? ReadStreams(ref r) : [],
            SharedOwner = fields.HasFlag(TreeField.Owner) ? ReadOwner(ref r, ref lastOwner) : null,
            PosixAttributes = fields.HasFlag(TreeField.PosixAttributes) ? ReadValues(ref r) : [],
            CaseSensitive = fields.HasFlag(TreeField.CaseSensitive),
            Compaction = fields.HasFlag(TreeField.Compaction) ? ReadForm(ref r, kind) : CompactedForm.None,
        };
    }

    private static CompactedForm ReadForm(ref BinaryFormatReader r, EntryKind kind)
    {
        var form = (CompactedForm)r.Byte();
        return kind == EntryKind.File && form is > CompactedForm.None and <= CompactedForm.Xpress16K ? form
            : throw r.Error("a form of compacting that this Vembar does not know");
    }

    private static object ReadOwner(ref BinaryFormatReader r, ref object? last)
    {
        var owner = new PosixOwner((uint)r.Number() & 0xFFF, (uint)r.Number(), (uint)r.Number());
        return last is PosixOwner same && same == owner ? last : last = owner;
    }

    private static NamedValue[] ReadValues(ref BinaryFormatReader r)
    {
        var values = new NamedValue[r.Count(3)];
        for (var i = 0; i < values.Length; i++)
        {
            var flags = r.Byte();
            values[i] = new NamedValue(r.Text(), r.Block().ToArray(), flags);
        }
        return values;
    }

    private static NamedStream[] ReadStreams(ref BinaryFormatReader r)
    {
        var streams = new NamedStream[r.Count(2)];
        for (var i = 0; i < streams.Length; i++)
            streams[i] = new NamedStream(r.Text(), ReadContent(ref r));
        return streams;
    }

    private static FileContent ReadContent(ref BinaryFormatReader r)
    {
        var length = r.Number();
        if (length == 0)
            return FileContent.Empty;
        if (length > long.MaxValue / 2)
            throw r.Error("a file is longer than any can be");
        var form = r.Byte();
        var hash = r.Id();
        return form switch
        {
            1 => new FileContent((long)length, hash, [new ContentPart(hash, (long)length)]),
            2 => new FileContent((long)length, hash, ReadParts(ref r, (long)length)),
            3 => new FileContent((long)length, hash, r.Id()),
            _ => throw r.Error($"content form {form} is unknown"),
        };
    }

    private static ContentPart[] ReadParts(ref BinaryFormatReader r, long length)
    {
        var parts = new ContentPart[r.Count(1)];
        var left = length;
        for (var i = 0; i < parts.Length; i++)
        {
            var number = r.Number();
            var own = (long)(number >> 1);
            if (own == 0 || own > left)
                throw r.Error("the parts of a file do not add up to its length");
            left -= own;
            parts[i] = new ContentPart((number & 1) != 0 ? default : r.Id(), own);
            if ((number & 1) == 0 && parts[i].Id.IsNone)
                throw r.Error("a part without an id");
        }
        return left == 0 ? parts : throw r.Error("the parts of a file do not add up to its length");
    }

    /// <summary>The parts of a content, read from their list where they have one.</summary>
    public static IReadOnlyList<ContentPart> Parts(IChunkSource source, FileContent content)
    {
        if (content.Parts is not null)
            return content.Parts;
        var reader = new BinaryFormatReader(source.Read(content.List).Span, $"list of parts {content.List}");
        if (reader.Byte() != TreeFormat.PartList)
            throw reader.Error("it does not begin as one");
        var parts = ReadParts(ref reader, content.Length);
        reader.End();
        return parts;
    }
}

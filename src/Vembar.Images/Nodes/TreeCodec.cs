using System.IO.Hashing;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Images.Nodes;

/// <summary>Folder nodes and lists of parts as bytes. docs/archive-format.md, "Trees".</summary>
internal static class TreeCodec
{
    private const byte FolderPage = (byte)'F', FolderIndex = (byte)'X', PartList = (byte)'L';

    // A folder with more entries is cut into pages, at names whose hash says so: an edit then rewrites one page.
    private const int OnePage = 2048, LongestPage = 8192;
    private const ulong PageMask = 1023;

    // A file with more parts keeps them in a chunk of their own.
    internal const int InlineParts = 32;

    [Flags]
    private enum Field : ulong
    {
        Attributes = 1 << 0, Modified = 1 << 1, Created = 1 << 2, Changed = 1 << 3, Accessed = 1 << 4, ModifiedRest = 1 << 5,
        Content = 1 << 6, Folder = 1 << 7, LinkTarget = 1 << 8, Security = 1 << 9, Reparse = 1 << 10, ShortName = 1 << 11,
        LinkGroup = 1 << 12, ObjectId = 1 << 13, ExtendedAttributes = 1 << 14, Streams = 1 << 15, Owner = 1 << 16,
        PosixAttributes = 1 << 17, CaseSensitive = 1 << 18, Compaction = 1 << 19,
        All = (1 << 20) - 1,
    }

    /// <summary>Stores a folder's entries and returns its id. The entries are sorted here.</summary>
    public static ChunkId WriteFolder(ArchiveWriter writer, List<TreeEntry> entries)
    {
        entries.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        var folder = new FolderWriter(writer);
        foreach (var entry in entries)
            folder.Add(entry);
        return folder.Finish();
    }

    /// <summary>Stores a folder as its entries come, in the order of their names; what a page holds is all that is kept.</summary>
    internal sealed class FolderWriter(ArchiveWriter writer)
    {
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
            _pages.Add((_page[0].Name, writer.Add(BlockKind.Tree, EncodePage(writer, _page)), _page.Count));
            _page.Clear();
            _length = 0;
        }

        /// <summary>Stores what is left and returns the folder's id.</summary>
        public ChunkId Finish()
        {
            if (!_isLarge)
                return writer.Add(BlockKind.Tree, EncodePage(writer, _page));
            Close();
            var index = new BinaryFormatWriter().Byte(FolderIndex).Number((ulong)_pages.Count);
            foreach (var (first, id, count) in _pages)
                index.Text(first).Id(id).Number((ulong)count);
            return writer.Add(BlockKind.Tree, index.Written);
        }
    }

    private static byte[] EncodePage(ArchiveWriter writer, List<TreeEntry> entries)
    {
        var securities = entries.Where(e => !e.Security.IsNone).Select(e => e.Security).Distinct().ToList();
        var places = securities.Select((id, i) => (id, i)).ToDictionary(s => s.id, s => s.i);
        var data = new BinaryFormatWriter().Byte(FolderPage).Number((ulong)securities.Count);
        foreach (var id in securities)
            data.Id(id);
        data.Number((ulong)entries.Count);
        foreach (var entry in entries)
            Write(writer, data, entry, places);
        return data.Written.ToArray();
    }

    private static void Write(ArchiveWriter writer, BinaryFormatWriter data, TreeEntry e, Dictionary<ChunkId, int> securities)
    {
        if (e.New is not null)
            throw new InvalidOperationException($"the content of '{e.Name}' was not stored");
        Field fields = 0;
        void Mark(bool present, Field field) => fields |= present ? field : 0;
        Mark(e.Attributes is not null, Field.Attributes);
        Mark(e.Modified is not null, Field.Modified);
        Mark(e.Created is not null, Field.Created);
        Mark(e.Changed is not null, Field.Changed);
        Mark(e.Accessed is not null, Field.Accessed);
        Mark(e.Modified is { Rest: > 0 }, Field.ModifiedRest);
        Mark(e.Content is not null, Field.Content);
        Mark(e.Kind == EntryKind.Folder, Field.Folder);
        Mark(e.LinkTarget is not null, Field.LinkTarget);
        Mark(!e.Security.IsNone, Field.Security);
        Mark(e.Reparse is not null, Field.Reparse);
        Mark(e.ShortName is not null, Field.ShortName);
        Mark(e.LinkGroup != 0, Field.LinkGroup);
        Mark(e.ObjectId is not null, Field.ObjectId);
        Mark(e.ExtendedAttributes.Count > 0, Field.ExtendedAttributes);
        Mark(e.Streams.Count > 0, Field.Streams);
        Mark(e.Owner is not null, Field.Owner);
        Mark(e.PosixAttributes.Count > 0, Field.PosixAttributes);
        Mark(e.CaseSensitive, Field.CaseSensitive);
        Mark(e.Compaction != CompactedForm.None, Field.Compaction);
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
            WriteContent(writer, data, e.Content);
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
                WriteContent(writer, data, stream.Content);
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
    private static void WriteContent(ArchiveWriter writer, BinaryFormatWriter data, FileContent content)
    {
        data.Number((ulong)content.Length);
        if (content.Length == 0)
            return;
        if (content.Parts is [{ IsHole: false } only] && only.Id == content.Hash)
            data.Byte(1).Id(content.Hash);
        else if (content.Parts is { Count: <= InlineParts })
        {
            data.Byte(2).Id(content.Hash);
            WriteParts(data, content.Parts);
        }
        else
        {
            var list = content.List;
            if (content.Parts is not null)
            {
                var parts = new BinaryFormatWriter().Byte(PartList);
                WriteParts(parts, content.Parts);
                list = writer.Add(BlockKind.Tree, parts.Written);
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

    /// <summary>All entries of a folder, sorted by name.</summary>
    /// <exception cref="BinaryFormatException">The node makes no sense.</exception>
    public static List<TreeEntry> ReadFolder(IChunkSource source, ChunkId id) => [.. Entries(source, id)];

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
        if (node is [FolderPage, ..])
            return [("", id)];
        var reader = new BinaryFormatReader(node, $"folder {id}");
        if (reader.Byte() != FolderIndex)
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
        if (reader.Byte() != FolderPage)
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

    /// <summary>What a page says of an entry, for comparing it with a file of Linux; nothing is made of it.</summary>
    internal ref struct EntryView
    {
        /// <summary>The name in UTF-8.</summary>
        public ReadOnlySpan<byte> Name;

        public EntryKind Kind;

        /// <summary>Whether it has nothing but what a file of Linux with a single name has.</summary>
        public bool IsPlain;

        public FileTime? Modified;
        public long Length;

        /// <summary>The hash of a file's whole content; none of an empty one.</summary>
        public ChunkId Hash;

        /// <summary>Where a link points, in UTF-8.</summary>
        public ReadOnlySpan<byte> Target;

        /// <summary>Whether it has extended attributes.</summary>
        public bool HasAttributes;

        public ChunkId Folder;
        public PosixOwner? Owner;
    }

    /// <summary>Goes through a page's entries without making objects of them.</summary>
    internal ref struct PageSketch
    {
        private const Field Plain =
            Field.Modified | Field.ModifiedRest | Field.Content | Field.Folder | Field.LinkTarget | Field.Owner | Field.PosixAttributes;
        private BinaryFormatReader _reader;
        private int _left;

        /// <exception cref="BinaryFormatException">It is no page.</exception>
        public PageSketch(ReadOnlySpan<byte> bytes)
        {
            _reader = new BinaryFormatReader(bytes, "folder page");
            if (_reader.Byte() != FolderPage)
                throw _reader.Error("it does not begin as one");
            _reader.Bytes(ChunkId.Length * _reader.Count(ChunkId.Length));
            _left = _reader.Count(3);
        }

        /// <summary>The next entry; after one that is not plain there is nothing more to be had.</summary>
        /// <exception cref="BinaryFormatException">The page makes no sense.</exception>
        public bool Next(out EntryView entry)
        {
            entry = default;
            if (_left-- == 0)
                return false;
            entry.Name = _reader.Block();
            entry.Kind = (EntryKind)_reader.Byte();
            var fields = (Field)_reader.Number();
            // Fields that do not go with the kind are for the reader that says what is wrong with them.
            entry.IsPlain = (fields & ~Plain) == 0 && (fields & Field.Content) != 0 == (entry.Kind == EntryKind.File)
                && (fields & Field.Folder) != 0 == (entry.Kind == EntryKind.Folder)
                && (fields & Field.LinkTarget) != 0 == (entry.Kind == EntryKind.Link);
            if (!entry.IsPlain)
                return true;
            if ((fields & Field.Modified) != 0)
                entry.Modified = new FileTime(_reader.Int64());
            if ((fields & Field.ModifiedRest) != 0)
                entry.Modified = new FileTime(entry.Modified?.Ticks ?? 0, _reader.Byte());
            if ((fields & Field.Content) != 0)
                (entry.Length, entry.Hash) = SkipContent(ref _reader);
            if ((fields & Field.Folder) != 0)
                entry.Folder = _reader.Id();
            if ((fields & Field.LinkTarget) != 0)
                entry.Target = _reader.Block();
            if ((fields & Field.Owner) != 0)
                entry.Owner = new PosixOwner((uint)_reader.Number() & 0xFFF, (uint)_reader.Number(), (uint)_reader.Number());
            for (var values = (fields & Field.PosixAttributes) != 0 ? _reader.Count(3) : 0; values > 0; values--)
            {
                entry.HasAttributes = true;
                _reader.Byte();
                _reader.Block();
                _reader.Block();
            }
            return true;
        }

        private static (long Length, ChunkId Hash) SkipContent(ref BinaryFormatReader r)
        {
            var length = r.Number();
            if (length == 0)
                return default;
            var form = r.Byte();
            var hash = r.Id();
            if (form == 3)
                r.Bytes(ChunkId.Length);
            for (var parts = form == 2 ? r.Count(1) : 0; parts > 0; parts--)
            {
                if ((r.Number() & 1) == 0)
                    r.Bytes(ChunkId.Length);
            }
            return length <= long.MaxValue / 2 ? ((long)length, hash) : throw r.Error("a file is longer than any can be");
        }
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
        var fields = (Field)r.Number();
        if ((fields & ~Field.All) != 0)
            throw r.Error("an entry has fields that this Vembar does not know");
        WindowsAttributes? attributes = fields.HasFlag(Field.Attributes) ? (WindowsAttributes)r.Number() : null;
        FileTime? modified = fields.HasFlag(Field.Modified) ? new FileTime(r.Int64()) : null;
        FileTime? created = fields.HasFlag(Field.Created) ? new FileTime(r.Int64()) : null;
        FileTime? changed = fields.HasFlag(Field.Changed) ? new FileTime(r.Int64()) : null;
        FileTime? accessed = fields.HasFlag(Field.Accessed) ? new FileTime(r.Int64()) : null;
        if (fields.HasFlag(Field.ModifiedRest))
            modified = new FileTime(modified?.Ticks ?? throw r.Error("a rest without a time"), r.Byte());
        var content = fields.HasFlag(Field.Content) ? ReadContent(ref r) : null;
        var folder = fields.HasFlag(Field.Folder) ? r.Id() : default;
        var target = fields.HasFlag(Field.LinkTarget) ? r.Text() : null;
        if (content is null == (kind == EntryKind.File) || folder.IsNone == (kind == EntryKind.Folder)
            || target is null == (kind == EntryKind.Link))
            throw r.Error("an entry has fields that do not go with its kind");
        var security = default(ChunkId);
        if (fields.HasFlag(Field.Security))
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
            Reparse = fields.HasFlag(Field.Reparse) ? r.Block().ToArray() : null,
            ShortName = fields.HasFlag(Field.ShortName) ? r.Text() : null,
            LinkGroup = fields.HasFlag(Field.LinkGroup) ? r.UInt64() : 0,
            ObjectId = fields.HasFlag(Field.ObjectId) ? r.Block().ToArray() : null,
            ExtendedAttributes = fields.HasFlag(Field.ExtendedAttributes) ? ReadValues(ref r) : [],
            Streams = fields.HasFlag(Field.Streams) ? ReadStreams(ref r) : [],
            SharedOwner = fields.HasFlag(Field.Owner) ? ReadOwner(ref r, ref lastOwner) : null,
            PosixAttributes = fields.HasFlag(Field.PosixAttributes) ? ReadValues(ref r) : [],
            CaseSensitive = fields.HasFlag(Field.CaseSensitive),
            Compaction = fields.HasFlag(Field.Compaction) ? ReadForm(ref r, kind) : CompactedForm.None,
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
        if (reader.Byte() != PartList)
            throw reader.Error("it does not begin as one");
        var parts = ReadParts(ref reader, content.Length);
        reader.End();
        return parts;
    }
}

using Vembar.Common.Formats;
using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Images.Nodes;

/// <summary>Goes through a page's entries without making objects of them.</summary>
internal ref struct FolderPageScanner
{
    private const TreeField Plain =
        TreeField.Modified | TreeField.ModifiedRest | TreeField.Content | TreeField.Folder | TreeField.LinkTarget
        | TreeField.Owner | TreeField.PosixAttributes;
    private BinaryFormatReader _reader;
    private int _left;

    /// <exception cref="BinaryFormatException">It is no page.</exception>
    public FolderPageScanner(ReadOnlySpan<byte> bytes)
    {
        _reader = new BinaryFormatReader(bytes, "folder page");
        if (_reader.Byte() != TreeFormat.FolderPage)
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
        var fields = (TreeField)_reader.Number();
        // Fields that do not go with the kind are for the reader that says what is wrong with them.
        entry.IsPlain = (fields & ~Plain) == 0 && (fields & TreeField.Content) != 0 == (entry.Kind == EntryKind.File)
            && (fields & TreeField.Folder) != 0 == (entry.Kind == EntryKind.Folder)
            && (fields & TreeField.LinkTarget) != 0 == (entry.Kind == EntryKind.Link);
        if (!entry.IsPlain)
            return true;
        if ((fields & TreeField.Modified) != 0)
            entry.Modified = new FileTime(_reader.Int64());
        if ((fields & TreeField.ModifiedRest) != 0)
            entry.Modified = new FileTime(entry.Modified?.Ticks ?? 0, _reader.Byte());
        if ((fields & TreeField.Content) != 0)
            (entry.Length, entry.Hash) = SkipContent(ref _reader);
        if ((fields & TreeField.Folder) != 0)
            entry.Folder = _reader.Id();
        if ((fields & TreeField.LinkTarget) != 0)
            entry.Target = _reader.Block();
        if ((fields & TreeField.Owner) != 0)
            entry.Owner = new PosixOwner((uint)_reader.Number() & 0xFFF, (uint)_reader.Number(), (uint)_reader.Number());
        for (var values = (fields & TreeField.PosixAttributes) != 0 ? _reader.Count(3) : 0; values > 0; values--)
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

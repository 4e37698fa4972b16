using System.Buffers.Binary;
using System.Text;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>A VHDX that differs from a parent ([MS-VHDX], "Virtual Hard Disk v2 File Format", sections 2.2 to 2.6).</summary>
internal sealed class VhdxDifferencing : IDifferencingMap
{
    private const int RegionTableAt = 192 << 10, SecondRegionTableAt = 256 << 10, HeaderAt = 64 << 10, SecondHeaderAt = 128 << 10;
    private const int MetadataEntryLength = 32, RegionEntryLength = 32, LongestMetadata = 1 << 20, BitmapLength = 1 << 20,
        Megabyte = 1 << 20;
    private static readonly Guid s_table = new("2DC27766-F623-4200-9D64-115E9BFD4A08"),
        s_metadata = new("8B7CA206-4790-4B9A-B8FE-575F050F886E");
    private static readonly Guid s_parameters = new("CAA16737-FA36-4D43-B3B6-33F0AA44E76B"),
        s_size = new("2FA54224-CD1B-4876-B211-5DBED83BF4B8");
    private static readonly Guid s_sector = new("8141BF1D-A96F-4709-BA47-F233A8FAAB5F"),
        s_locator = new("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C");
    private readonly IBlockDevice _file;
    private readonly ulong[] _table;
    private readonly int _blockLength;
    private readonly int _sectorLength;
    private readonly long _chunkRatio;
    private readonly Dictionary<long, byte[]> _bitmaps = [];
    private readonly Lock _gate = new();

    private VhdxDifferencing(IBlockDevice file, Dictionary<Guid, byte[]> metadata, long tableAt, long tableLength)
    {
        _file = file;
        _blockLength = BinaryPrimitives.ReadInt32LittleEndian(metadata[s_parameters]);
        Length = BinaryPrimitives.ReadInt64LittleEndian(metadata[s_size]);
        _sectorLength = BinaryPrimitives.ReadInt32LittleEndian(metadata[s_sector]);
        if (!int.IsPow2(_blockLength) || _blockLength is < Megabyte or > 256 << 20 || _sectorLength is not (512 or 4096)
            || Length is <= 0 or > 64L << 40)
            throw Bad(file, "has numbers in its header that make no sense");
        _chunkRatio = (1L << 23) * _sectorLength / _blockLength;
        var blocks = (Length + _blockLength - 1) / _blockLength;
        var entries = (blocks + _chunkRatio - 1) / _chunkRatio * (_chunkRatio + 1);
        if (8 * entries > tableLength || tableAt > file.Length - 8 * entries || 8 * entries > Array.MaxLength)
            throw Bad(file, "has a table that is cut short");
        var table = new byte[8 * entries];
        file.Read(table, tableAt);
        _table = new ulong[entries];
        for (var i = 0; i < _table.Length; i++)
            _table[i] = BinaryPrimitives.ReadUInt64LittleEndian(table.AsSpan(8 * i));
        var said = Locator(metadata[s_locator]);
        ParentId = said.TryGetValue("parent_linkage", out var id) && Guid.TryParse(id, out var parent) ? parent : default;
        ParentPaths = [.. ((string[])["relative_path", "absolute_win32_path", "volume_path"]).Where(said.ContainsKey).Select(k => said[k])];
    }

    private static VembarException Bad(IBlockDevice file, string what) =>
        VembarException.Input("bad-disk-image", $"the disk image '{file.DisplayName}' (vhdx) {what}",
        "It may be cut short or damaged; take it from another copy.");

    /// <summary>Reads what a file says, when it is a VHDX with a parent; null when it has none.</summary>
    /// <param name="file">The file, which stays open as long as this is used.</param>
    /// <exception cref="VembarException">It has a parent, and is damaged or was not closed.</exception>
    public static VhdxDifferencing? TryOpen(IBlockDevice file)
    {
        const uint HasParent = 2;
        if (Regions(file) is not { } regions || !regions.TryGetValue(s_metadata, out var region)
            || !regions.TryGetValue(s_table, out var table) || Metadata(file, region.At) is not { } metadata
            || !metadata.TryGetValue(s_parameters, out var parameters) || parameters.Length < 8
            || (BinaryPrimitives.ReadUInt32LittleEndian(parameters.AsSpan(4)) & HasParent) == 0)
            return null;
        if (!metadata.TryGetValue(s_size, out var size) || size.Length < 8 || !metadata.TryGetValue(s_sector, out var sector)
            || sector.Length < 4 || !metadata.ContainsKey(s_locator))
            throw Bad(file, "differs from a parent, and does not say from which");
        if (Header(file) is not { } header)
            throw Bad(file, "has no header that is whole");
        if (header.AsSpan(48, 16).IndexOfAnyExcept((byte)0) >= 0)
        {
            throw VembarException.Input("disk-not-closed",
                $"the disk image '{file.DisplayName}' was not closed properly: changes in its log are not in their places yet",
                "Let the program that wrote it open and close it once.");
        }
        return new VhdxDifferencing(file, metadata, table.At, table.Length);
    }

    /// <summary>What tells the data of a VHDX from those of others; null when it is none.</summary>
    public static Guid? IdOf(IBlockDevice file) => Header(file) is { } header ? new Guid(header.AsSpan(32, 16)) : null;

    // Of two headers the one with the higher number counts.
    private static byte[]? Header(IBlockDevice file)
    {
        byte[]? newest = null;
        foreach (var at in (int[])[HeaderAt, SecondHeaderAt])
        {
            var header = new byte[80];
            if (file.Read(header, at) == header.Length && header.AsSpan().StartsWith("head"u8)
                && (newest is null
                || BinaryPrimitives.ReadUInt64LittleEndian(header.AsSpan(8)) > BinaryPrimitives.ReadUInt64LittleEndian(newest.AsSpan(8))))
                newest = header;
        }
        return newest;
    }

    private static Dictionary<Guid, (long At, long Length)>? Regions(IBlockDevice file)
    {
        const int Most = 2047;
        foreach (var at in (int[])[RegionTableAt, SecondRegionTableAt])
        {
            var head = new byte[16];
            if (file.Read(head, at) < head.Length || !head.AsSpan().StartsWith("regi"u8)
                || BinaryPrimitives.ReadUInt32LittleEndian(head.AsSpan(8)) is var count && count > Most)
                continue;
            var entries = new byte[RegionEntryLength * (int)count];
            if (file.Read(entries, at + head.Length) < entries.Length)
                continue;
            var regions = new Dictionary<Guid, (long, long)>();
            for (var i = 0; i < count; i++)
            {
                var entry = entries.AsSpan(RegionEntryLength * i, RegionEntryLength);
                regions[new Guid(entry[..16])] =
                    (BinaryPrimitives.ReadInt64LittleEndian(entry[16..]), BinaryPrimitives.ReadUInt32LittleEndian(entry[24..]));
            }
            return regions;
        }
        return null;
    }

    private static Dictionary<Guid, byte[]>? Metadata(IBlockDevice file, long at)
    {
        const int Most = 2047;
        var head = new byte[32];
        if (at <= 0 || at > file.Length - head.Length || file.Read(head, at) < head.Length || !head.AsSpan().StartsWith("metadata"u8))
            return null;
        var count = BinaryPrimitives.ReadUInt16LittleEndian(head.AsSpan(10));
        var entries = new byte[MetadataEntryLength * count];
        if (count > Most || file.Read(entries, at + head.Length) < entries.Length)
            return null;
        var items = new Dictionary<Guid, byte[]>();
        for (var i = 0; i < count; i++)
        {
            var entry = entries.AsSpan(MetadataEntryLength * i, MetadataEntryLength);
            uint offset = BinaryPrimitives.ReadUInt32LittleEndian(entry[16..]),
                length = BinaryPrimitives.ReadUInt32LittleEndian(entry[20..]);
            if (length > LongestMetadata)
                continue;
            var bytes = new byte[length];
            if (file.Read(bytes, at + offset) == bytes.Length)
                items[new Guid(entry[..16])] = bytes;
        }
        return items;
    }

    private static Dictionary<string, string> Locator(byte[] bytes)
    {
        var said = new Dictionary<string, string>(StringComparer.Ordinal);
        var count = bytes.Length >= 20 ? BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(18)) : 0;
        for (var i = 0; i < count && 20 + 12 * (i + 1) <= bytes.Length; i++)
        {
            var entry = bytes.AsSpan(20 + 12 * i, 12);
            uint keyAt = BinaryPrimitives.ReadUInt32LittleEndian(entry), valueAt = BinaryPrimitives.ReadUInt32LittleEndian(entry[4..]);
            int keyLength = BinaryPrimitives.ReadUInt16LittleEndian(entry[8..]),
                valueLength = BinaryPrimitives.ReadUInt16LittleEndian(entry[10..]);
            if (keyAt + (long)keyLength <= bytes.Length && valueAt + (long)valueLength <= bytes.Length)
                said[Encoding.Unicode.GetString(bytes, (int)keyAt, keyLength)] =
                    Encoding.Unicode.GetString(bytes, (int)valueAt, valueLength);
        }
        return said;
    }

    /// <inheritdoc/>
    public long Length { get; }

    /// <inheritdoc/>
    public Guid ParentId { get; }

    /// <inheritdoc/>
    public IReadOnlyList<string> ParentPaths { get; }

    /// <inheritdoc/>
    public (DiskPiece Piece, long Length) Find(long offset)
    {
        const ulong States = 7, NotPresent = 0, Whole = 6, Partial = 7;
        var (block, within) = Math.DivRem(offset, _blockLength);
        var rest = Math.Min(_blockLength - within, Length - offset);
        var entry = _table[block + block / _chunkRatio];
        // The place is a number of megabytes in the upper 44 bits.
        var at = (long)(entry >> 20) * Megabyte + within;
        switch (entry & States)
        {
            case NotPresent:
                return (new DiskPiece(DiskPieceKind.OfParent, 0), rest);
            case Whole:
                return (new DiskPiece(DiskPieceKind.Own, at), rest);
            case Partial:
                break;
            default:
                return (new DiskPiece(DiskPieceKind.Zero, 0), rest);
        }
        var bitmap = Bitmap(block / _chunkRatio);
        var first = block % _chunkRatio * (_blockLength / _sectorLength);
        bool IsOwn(long sector) => (bitmap[(first + sector) >> 3] & (1 << (int)((first + sector) & 7))) != 0;
        var number = within / _sectorLength;
        var isOwn = IsOwn(number);
        var end = number + 1;
        while (end < _blockLength / _sectorLength && IsOwn(end) == isOwn)
            end++;
        return (new DiskPiece(isOwn ? DiskPieceKind.Own : DiskPieceKind.OfParent, at), Math.Min(rest, end * _sectorLength - within));
    }

    private byte[] Bitmap(long chunk)
    {
        const ulong States = 7, Whole = 6;
        lock (_gate)
        {
            if (_bitmaps.TryGetValue(chunk, out var known))
                return known;
            var entry = _table[chunk * (_chunkRatio + 1) + _chunkRatio];
            var bitmap = new byte[BitmapLength];
            if ((entry & States) != Whole || _file.Read(bitmap, (long)(entry >> 20) * Megabyte) < bitmap.Length)
                throw new Native.NativeException("read", $"{_file.DisplayName}: its map of sectors is missing", Native.Errno.InputOutput);
            return _bitmaps[chunk] = bitmap;
        }
    }
}

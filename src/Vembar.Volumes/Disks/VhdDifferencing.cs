using System.Buffers.Binary;
using System.Text;
using Vembar.Common;

namespace Vembar.Volumes.Disks;

/// <summary>A differencing VHD ("Virtual Hard Disk Image Format Specification", Microsoft, version 1.0).</summary>
internal sealed class VhdDifferencing : IDifferencingMap
{
    private const int FooterLength = 512, HeaderLength = 1024, SectorLength = 512, TypeAt = 60, IdAt = 68;
    private const uint Differencing = 4, Absent = 0xFFFFFFFF;
    private readonly IBlockDevice _file;
    private readonly uint[] _blocks;
    private readonly int _blockLength;
    private readonly int _bitmapLength;
    private readonly byte[]?[] _bitmaps;
    private readonly Lock _gate = new();

    private VhdDifferencing(IBlockDevice file, ReadOnlySpan<byte> footer, byte[] header)
    {
        _file = file;
        Length = BinaryPrimitives.ReadInt64BigEndian(footer[48..]);
        _blockLength = BinaryPrimitives.ReadInt32BigEndian(header.AsSpan(32));
        var count = BinaryPrimitives.ReadUInt32BigEndian(header.AsSpan(28));
        var tableAt = BinaryPrimitives.ReadInt64BigEndian(header.AsSpan(16));
        if (!int.IsPow2(_blockLength) || _blockLength is < SectorLength or > 1 << 28 || Length <= 0 || Length > (long)count * _blockLength
            || count > 1 << 24
            || tableAt < 0 || tableAt > file.Length - 4L * count)
            throw VembarException.Input("bad-disk-image",
                $"the disk image '{file.DisplayName}' (vhd) has numbers in its header that make no sense",
                "It may be cut short or damaged; take it from another copy.");
        _bitmapLength = (_blockLength / SectorLength / 8 + SectorLength - 1) / SectorLength * SectorLength;
        var table = new byte[4 * (int)count];
        file.Read(table, tableAt);
        _blocks = new uint[count];
        for (var i = 0; i < _blocks.Length; i++)
            _blocks[i] = BinaryPrimitives.ReadUInt32BigEndian(table.AsSpan(4 * i));
        _bitmaps = new byte[]?[count];
        ParentId = new Guid(header.AsSpan(40, 16), bigEndian: true);
        ParentPaths = Locators(header);
    }

    /// <summary>Reads what a file says, when it is a differencing VHD; null when it is another kind of VHD.</summary>
    /// <param name="file">The file, which stays open as long as this is used.</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public static VhdDifferencing? TryOpen(IBlockDevice file)
    {
        if (Footer(file) is not { } footer || BinaryPrimitives.ReadUInt32BigEndian(footer.AsSpan(TypeAt)) != Differencing)
            return null;
        var at = BinaryPrimitives.ReadInt64BigEndian(footer.AsSpan(16));
        var header = new byte[HeaderLength];
        return at > 0 && at <= file.Length - HeaderLength && file.Read(header, at) == HeaderLength
            && header.AsSpan().StartsWith("cxsparse"u8) ? new VhdDifferencing(file, footer, header)
            : throw VembarException.Input("bad-disk-image",
            $"the disk image '{file.DisplayName}' (vhd) differs from a parent, and its header is damaged", "Take it from another copy.");
    }

    /// <summary>What tells a VHD from others; null when it is none.</summary>
    public static Guid? IdOf(IBlockDevice file) => Footer(file) is { } footer ? new Guid(footer.AsSpan(IdAt, 16), bigEndian: true) : null;

    // The footer is the last sector; those that are not of fixed size begin with a copy of it.
    private static byte[]? Footer(IBlockDevice file)
    {
        var footer = new byte[FooterLength];
        foreach (var at in (long[])[file.Length - FooterLength, 0])
        {
            if (at >= 0 && file.Read(footer, at) == FooterLength && footer.AsSpan().StartsWith("conectix"u8))
                return footer;
        }
        return null;
    }

    private List<string> Locators(byte[] header)
    {
        const uint Relative = 0x57327275, Absolute = 0x57326B75;
        const int LongestPath = 1 << 16;
        var paths = new List<(uint Code, string Path)>();
        for (var i = 0; i < 8; i++)
        {
            var locator = header.AsSpan(576 + 24 * i, 24);
            var code = BinaryPrimitives.ReadUInt32BigEndian(locator);
            var length = BinaryPrimitives.ReadUInt32BigEndian(locator[8..]);
            var at = BinaryPrimitives.ReadInt64BigEndian(locator[16..]);
            if (code is not (Relative or Absolute) || length is 0 or > LongestPath || at <= 0 || at > _file.Length - length)
                continue;
            var bytes = new byte[length];
            _file.Read(bytes, at);
            paths.Add((code, Encoding.Unicode.GetString(bytes).TrimEnd('\0')));
        }
        var name = Encoding.BigEndianUnicode.GetString(header.AsSpan(64, 512)).Split('\0')[0];
        return [.. paths.OrderBy(p => p.Code == Relative ? 0 : 1).Select(p => p.Path), .. name.Length > 0 ? [name] : Array.Empty<string>()];
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
        var (block, within) = Math.DivRem(offset, _blockLength);
        var rest = Math.Min(_blockLength - within, Length - offset);
        if (_blocks[block] == Absent)
            return (new DiskPiece(DiskPieceKind.OfParent, 0), rest);
        var bitmap = Bitmap(block);
        var sector = (int)(within / SectorLength);
        bool IsOwn(int number) => (bitmap[number >> 3] & (0x80 >> (number & 7))) != 0;
        var isOwn = IsOwn(sector);
        var end = sector + 1;
        while (end < _blockLength / SectorLength && IsOwn(end) == isOwn)
            end++;
        var length = Math.Min(rest, (long)end * SectorLength - within);
        return (isOwn ? new DiskPiece(DiskPieceKind.Own, (long)_blocks[block] * SectorLength + _bitmapLength + within)
            : new DiskPiece(DiskPieceKind.OfParent, 0), length);
    }

    private byte[] Bitmap(long block)
    {
        lock (_gate)
        {
            if (_bitmaps[block] is { } known)
                return known;
            var bitmap = new byte[_bitmapLength];
            if (_file.Read(bitmap, (long)_blocks[block] * SectorLength) < bitmap.Length)
                throw new Native.NativeException("read", $"{_file.DisplayName}: its file is cut short", Native.Errno.InputOutput);
            return _bitmaps[block] = bitmap;
        }
    }
}

using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Common.Formats;

namespace Vembar.Windows.Registry.Hives;

/// <summary>
/// The bytes of a hive file: its base block, and bins of cells. Cells are named by their place behind the base block. What is added stands
/// in
/// pieces of its own, so that a span of a cell stays good whatever is allocated. Every length and place is taken as hostile.
/// </summary>
/// <remarks>Source: "Windows registry file format specification" (Suhanov), sections "Base block", "Hive bin" and "Cell".</remarks>
internal sealed class HiveImage
{
    /// <summary>The length of the base block, and what bins are a multiple of.</summary>
    public const int BlockLength = 4096;

    /// <summary>The length of a bin's head.</summary>
    public const int BinHeadLength = 32;

    /// <summary>Where a list, a class or a cell would be and is not.</summary>
    public const int None = -1;

    /// <summary>Bins can be that long together: places have 31 bits.</summary>
    public const long Longest = int.MaxValue - BlockLength;

    private const int PieceLength = 1 << 20;
    private readonly byte[] _file;
    private readonly int _fileBins;
    private readonly List<Piece> _added = [];

    private sealed class Piece(int start, byte[] bytes)
    {
        public int Start => start;

        public byte[] Bytes => bytes;

        public int Used { get; set; }
    }

    private readonly HivePieces? _pieces;

    private HiveImage(byte[] file, int bins, HivePieces? pieces = null)
    {
        _file = file;
        _fileBins = bins;
        _pieces = pieces;
        Length = bins;
    }

    /// <summary>Looks at the base block of a hive.</summary>
    /// <param name="file">The file; it is the hive's own from then on.</param>
    /// <exception cref="BinaryFormatException">It is no hive that is known here.</exception>
    public static HiveImage Open(byte[] file)
    {
        const int VersionOne = 1, OldestMinor = 2, NewestMinor = 6;
        if (file.Length < BlockLength + BinHeadLength || !file.AsSpan().StartsWith("regf"u8))
            throw new BinaryFormatException("base block", 0, "it is not one");
        var image = new HiveImage(file, (int)Math.Min(U32(file, 40), (uint)file.Length - BlockLength));
        if (U32(file, 20) != VersionOne || image.Minor is < OldestMinor or > NewestMinor)
            throw new BinaryFormatException("base block", 20, $"version {U32(file, 20)}.{U32(file, 24)} is not known");
        return image;
    }

    /// <summary>Looks at the base block of a hive that is only read, and whose pieces may be shared with another.</summary>
    /// <param name="pieces">The file.</param>
    /// <exception cref="BinaryFormatException">It is no hive that is known here.</exception>
    public static HiveImage Open(HivePieces pieces)
    {
        if (pieces.Length < BlockLength + BinHeadLength)
            throw new BinaryFormatException("base block", 0, "it is not one");
        // The copy says how long the bins are; it is looked at as any other.
        var file = new byte[BlockLength + BinHeadLength];
        pieces.Bytes(0, BlockLength).CopyTo(file);
        _ = Open(file);
        return new HiveImage(file[..BlockLength], (int)Math.Min(U32(file, 40), Math.Min(pieces.Length - BlockLength, Longest)), pieces);
    }

    /// <summary>Begins a hive without bins.</summary>
    /// <param name="block">Its base block.</param>
    public static HiveImage Begin(byte[] block) => new(block, 0) { IsInOrder = true };

    /// <summary>Says which cell the root key is.</summary>
    public void SetRoot(int cell) => BinaryPrimitives.WriteInt32LittleEndian(Base[36..], cell);

    private static uint U32(ReadOnlySpan<byte> bytes, int at) => BinaryPrimitives.ReadUInt32LittleEndian(bytes[at..]);

    /// <summary>The base block.</summary>
    public Span<byte> Base => _file.AsSpan(0, BlockLength);

    /// <summary>The number behind the version's point.</summary>
    public int Minor => (int)U32(_file, 24);

    /// <summary>The root key's cell.</summary>
    public int Root => (int)U32(_file, 36);

    /// <summary>The length of all bins that the base block tells; more than there is when the file was cut off.</summary>
    public long ToldLength => U32(_file, 40);

    /// <summary>The length of all bins.</summary>
    public int Length { get; private set; }

    /// <summary>Whether bins were added.</summary>
    public bool IsGrown => _added.Count > 0;

    /// <summary>Whether all lists of keys are known to be in the order that Windows wants.</summary>
    public bool IsInOrder { get; set; }

    /// <summary>Whether the file was written to its end: both of its numbers are the same, and the base block's sum is right.</summary>
    public bool IsWhole => U32(_file, 4) == U32(_file, 8) && U32(_file, 508) == Sum() && U32(_file, 40) <= _file.Length - BlockLength;

    private uint Sum()
    {
        var sum = 0u;
        for (var i = 0; i < 508; i += 4)
            sum ^= U32(_file, i);
        return sum switch { 0 => 1, uint.MaxValue => uint.MaxValue - 1, _ => sum };
    }

    /// <summary>Bytes anywhere in the bins.</summary>
    /// <param name="at">Their place.</param>
    /// <param name="length">How many.</param>
    /// <exception cref="BinaryFormatException">They are not all there.</exception>
    public Span<byte> Bytes(int at, int length)
    {
        if (at >= 0 && length >= 0)
        {
            if (at < _fileBins)
            {
                if (length <= _fileBins - at)
                    return _pieces is null ? _file.AsSpan(BlockLength + at, length) : _pieces.Bytes((long)BlockLength + at, length);
            }
            else if (PieceAt(at) is { } piece && length <= piece.Start + piece.Used - at)
                return piece.Bytes.AsSpan(at - piece.Start, length);
        }
        throw new BinaryFormatException("hive", at, "it leads out of the file");
    }

    private Piece? PieceAt(int at)
    {
        // What was asked for last is asked for next, as a rule.
        if (_last is { } last && at >= last.Start && at < last.Start + last.Used)
            return last;
        return _last = PieceOf(at);
    }

    private Piece? _last;

    private Piece? PieceOf(int at)
    {
        for (var i = _added.Count - 1; i >= 0; i--)
        {
            if (at >= _added[i].Start)
                return at < _added[i].Start + _added[i].Used ? _added[i] : null;
        }
        return null;
    }

    /// <summary>The size of a cell with its own head of four bytes; below zero when it is in use.</summary>
    /// <exception cref="BinaryFormatException">It is not there.</exception>
    public int SizeAt(int cell) => BinaryPrimitives.ReadInt32LittleEndian(Bytes(cell, 4));

    /// <summary>What a cell in use holds.</summary>
    /// <param name="cell">The cell.</param>
    /// <param name="least">The fewest bytes that it has to have.</param>
    /// <exception cref="BinaryFormatException">It is free, too short, or not there.</exception>
    public Span<byte> Cell(int cell, int least = 4)
    {
        const int Unit = 8;
        var size = cell % Unit == 0 && cell >= BinHeadLength ? SizeAt(cell) : 0;
        if (size >= 0 || size % Unit != 0 || size == int.MinValue)
            throw new BinaryFormatException("cell", cell, "there is none in use");
        if (-size - 4 < least)
            throw new BinaryFormatException("cell", cell, $"it has {-size - 4} bytes where at least {least} are needed");
        return Bytes(cell, -size)[4..];
    }

    /// <summary>Adds a bin at the end; it has one free cell.</summary>
    /// <param name="length">Its length, a multiple of <see cref="BlockLength"/>.</param>
    /// <param name="time">Its time, in 100 ns since 1601.</param>
    /// <returns>Its place.</returns>
    /// <exception cref="VembarException">The hive would be too long.</exception>
    public int AddBin(int length, long time)
    {
        if (Length + (long)length > Longest)
            throw VembarException.Environment("hive-full",
                $"the registry hive would be longer than {Longest >> 20} MiB, which is all that its format can hold",
                Advice.Of("hive-full"));
        var piece = _added.Count > 0 ? _added[^1] : null;
        if (piece is null || piece.Bytes.Length - piece.Used < length)
        {
            piece = new Piece(Length, new byte[Math.Max(Math.Max(PieceLength, (Length - _fileBins) / 4), length)]);
            _added.Add(piece);
        }
        var at = Length;
        var bin = piece.Bytes.AsSpan(piece.Used, length);
        piece.Used += length;
        Length += length;
        "hbin"u8.CopyTo(bin);
        BinaryPrimitives.WriteInt32LittleEndian(bin[4..], at);
        BinaryPrimitives.WriteInt32LittleEndian(bin[8..], length);
        BinaryPrimitives.WriteInt64LittleEndian(bin[20..], time);
        BinaryPrimitives.WriteInt32LittleEndian(bin[BinHeadLength..], length - BinHeadLength);
        return at;
    }

    /// <summary>The length of the file as it is now, in bytes. Behind the bins there may be room that Windows took in advance.</summary>
    public long FileLength => Math.Max(_file.Length, (long)BlockLength + Length);

    /// <summary>Makes it a file that was written to its end.</summary>
    /// <param name="time">When, in 100 ns since 1601.</param>
    public void Conclude(long time)
    {
        var next = U32(_file, 4) + 1;
        BinaryPrimitives.WriteUInt32LittleEndian(Base[4..], next);
        BinaryPrimitives.WriteUInt32LittleEndian(Base[8..], next);
        BinaryPrimitives.WriteInt64LittleEndian(Base[12..], time);
        BinaryPrimitives.WriteInt32LittleEndian(Base[40..], Length);
        BinaryPrimitives.WriteUInt32LittleEndian(Base[508..], Sum());
    }

    /// <summary>The file as it is now, in pieces that follow each other.</summary>
    public IReadOnlyList<ReadOnlyMemory<byte>> Pieces()
    {
        var pieces = new List<ReadOnlyMemory<byte>>();
        var at = 0;
        foreach (var piece in _added.OrderBy(p => p.Start))
        {
            var start = BlockLength + piece.Start;
            if (start > at)
                pieces.Add(_file.AsMemory(at, start - at));
            pieces.Add(piece.Bytes.AsMemory(0, piece.Used));
            at = start + piece.Used;
        }
        if (at < _file.Length)
            pieces.Add(_file.AsMemory(at));
        return pieces;
    }

    /// <summary>The file as it is now, as one that was written to its end.</summary>
    /// <param name="time">When, in 100 ns since 1601.</param>
    public byte[] ToBytes(long time)
    {
        Conclude(time);
        var bytes = new byte[FileLength];
        var at = 0;
        foreach (var piece in Pieces())
        {
            piece.Span.CopyTo(bytes.AsSpan(at));
            at += piece.Length;
        }
        return bytes;
    }
}

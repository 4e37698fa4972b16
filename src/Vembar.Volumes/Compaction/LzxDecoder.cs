using System.Buffers.Binary;

namespace Vembar.Volumes.Compaction;

/// <summary>Expands units of up to 32 KiB that were compressed by LZX, each by itself. One at a time; keep one for each thread.</summary>
/// <remarks>
/// Source: the vendor's "LZX data compression format" of the cabinet specification and MS-PATCH, in the form without a stream header:
/// a block's length is a bit that says 32 KiB, or 16 bits; jumps of programs are always translated, for a file of 12,000,000 bytes.
/// </remarks>
internal sealed class LzxDecoder
{
    private const int Unit = 32 << 10, Literals = 256, Slots = 30, MainSymbols = Literals + 8 * Slots, LengthSymbols = 249,
        PreSymbols = 20, AlignedSymbols = 8;
    private const int ShortestMatch = 2, LongHeader = 7, RecentOffsets = 3, OffsetAdjustment = 2, AlignedBits = 3;
    private const int Verbatim = 1, Aligned = 2, Uncompressed = 3;

    // Calls and jumps of programs: where they lead is made absolute before compressing, as if the file had this length.
    private const int FileLength = 12_000_000, JumpTail = 10;
    private const byte Jump = 0xE8;

    private static readonly int[] s_base = new int[Slots];
    private static readonly byte[] s_bits = new byte[Slots];

    private readonly HuffmanTable _main = new(MainSymbols, 11);
    private readonly HuffmanTable _length = new(LengthSymbols, 9);
    private readonly HuffmanTable _aligned = new(AlignedSymbols, 7);
    private readonly HuffmanTable _pre = new(PreSymbols, 6);
    private readonly byte[] _mainLengths = new byte[MainSymbols];
    private readonly byte[] _lengthLengths = new byte[LengthSymbols];

    static LzxDecoder()
    {
        for (var slot = 1; slot < Slots; slot++)
        {
            s_bits[slot] = (byte)(slot < 4 ? 0 : slot / 2 - 1);
            s_base[slot] = s_base[slot - 1] + (1 << s_bits[slot - 1]);
        }
    }

    /// <summary>The first offset of a slot, with what is added to each, and how many bits say the rest.</summary>
    internal static (int First, int Bits) Slot(int slot) => (s_base[slot], s_bits[slot]);

    /// <summary>Expands a unit.</summary>
    /// <param name="from">The compressed bytes.</param>
    /// <param name="to">What they expand to: as long as the unit is, at most 32 KiB.</param>
    /// <returns>False when they make no sense.</returns>
    public bool TryExpand(ReadOnlySpan<byte> from, Span<byte> to)
    {
        if (to.Length > Unit)
            return false;
        _mainLengths.AsSpan().Clear();
        _lengthLengths.AsSpan().Clear();
        var reader = new LzxBits(from);
        Span<int> recent = [1, 1, 1];
        for (var written = 0; written < to.Length;)
        {
            var kind = (int)reader.Take(3);
            var length = reader.Take(1) == 1 ? Unit : (int)reader.Take(16);
            if (length == 0 || length > to.Length - written || reader.IsPast)
                return false;
            if (kind == Uncompressed)
            {
                if (!reader.TryAlign(recent) || !reader.TryCopy(to.Slice(written, length)))
                    return false;
            }
            else if (kind is not (Verbatim or Aligned) || !TryReadCodes(ref reader, kind == Aligned)
                || !TryExpandBlock(ref reader, kind == Aligned, to, written, length, recent))
                return false;
            written += length;
        }
        Untranslate(to);
        return !reader.IsPast;
    }

    private bool TryReadCodes(ref LzxBits reader, bool isAligned)
    {
        if (isAligned)
        {
            Span<byte> lengths = stackalloc byte[AlignedSymbols];
            for (var i = 0; i < lengths.Length; i++)
                lengths[i] = (byte)reader.Take(3);
            if (!_aligned.Make(lengths))
                return false;
        }
        return TryReadLengths(ref reader, _mainLengths.AsSpan(0, Literals)) && TryReadLengths(ref reader, _mainLengths.AsSpan(Literals))
            && _main.Make(_mainLengths)
            && TryReadLengths(ref reader, _lengthLengths) && _length.Make(_lengthLengths);
    }

    // Lengths of codes stand as differences from those of the block before, in codes of their own.
    private bool TryReadLengths(ref LzxBits reader, Span<byte> lengths)
    {
        const int ZerosShort = 17, ZerosLong = 18, Same = 19, Wrap = 17;
        Span<byte> own = stackalloc byte[PreSymbols];
        for (var i = 0; i < own.Length; i++)
            own[i] = (byte)reader.Take(4);
        if (!_pre.Make(own))
            return false;
        for (var i = 0; i < lengths.Length;)
        {
            if (!reader.TryDecode(_pre, out var symbol) || reader.IsPast)
                return false;
            var run = 1;
            byte value = 0;
            switch (symbol)
            {
                case ZerosShort:
                    run = 4 + (int)reader.Take(4);
                    break;
                case ZerosLong:
                    run = 20 + (int)reader.Take(5);
                    break;
                case Same:
                    run = 4 + (int)reader.Take(1);
                    if (!reader.TryDecode(_pre, out var difference) || difference > 16)
                        return false;
                    value = (byte)((lengths[i] - difference + Wrap) % Wrap);
                    break;
                default:
                    value = (byte)((lengths[i] - symbol + Wrap) % Wrap);
                    break;
            }
            // A run that goes beyond the end is cut off there.
            run = Math.Min(run, lengths.Length - i);
            lengths.Slice(i, run).Fill(value);
            i += run;
        }
        return true;
    }

    private bool TryExpandBlock(ref LzxBits reader, bool isAligned, Span<byte> to, int written, int length, scoped Span<int> recent)
    {
        for (var end = written + length; written < end;)
        {
            if (!reader.TryDecode(_main, out var symbol))
                return false;
            if (symbol < Literals)
            {
                to[written++] = (byte)symbol;
                continue;
            }
            symbol -= Literals;
            var match = symbol & LongHeader;
            var slot = symbol >> 3;
            if (match == LongHeader)
            {
                if (!reader.TryDecode(_length, out var more))
                    return false;
                match += more;
            }
            match += ShortestMatch;
            int offset;
            if (slot < RecentOffsets)
                (offset, recent[slot]) = (recent[slot], recent[0]);
            else
            {
                int bits = s_bits[slot];
                offset = s_base[slot];
                if (isAligned && bits >= AlignedBits)
                {
                    offset += (int)reader.Take(bits - AlignedBits) << AlignedBits;
                    if (!reader.TryDecode(_aligned, out var low))
                        return false;
                    offset += low;
                }
                else
                    offset += (int)reader.Take(bits);
                offset -= OffsetAdjustment;
                (recent[2], recent[1]) = (recent[1], recent[0]);
            }
            recent[0] = offset;
            if (offset <= 0 || offset > written || match > end - written || reader.IsPast)
                return false;
            XpressDecoder.Copy(to, written, offset, match);
            written += match;
        }
        return true;
    }

    /// <summary>Makes the targets of jumps relative again.</summary>
    internal static void Untranslate(Span<byte> bytes)
    {
        for (var at = 0; at < bytes.Length - JumpTail;)
        {
            var next = bytes[at..^JumpTail].IndexOf(Jump);
            if (next < 0)
                return;
            at += next;
            var operand = bytes[(at + 1)..];
            var target = BinaryPrimitives.ReadInt32LittleEndian(operand);
            if (target >= 0 && target < FileLength)
                BinaryPrimitives.WriteInt32LittleEndian(operand, target - at);
            else if (target < 0 && target >= -at)
                BinaryPrimitives.WriteInt32LittleEndian(operand, target + FileLength);
            at += 5;
        }
    }

    /// <summary>Makes the targets of jumps absolute, as a compressor does.</summary>
    internal static void Translate(Span<byte> bytes)
    {
        for (var at = 0; at < bytes.Length - JumpTail; at++)
        {
            if (bytes[at] != Jump)
                continue;
            var operand = bytes[(at + 1)..];
            var relative = BinaryPrimitives.ReadInt32LittleEndian(operand);
            if (relative >= -at && relative < FileLength)
                BinaryPrimitives.WriteInt32LittleEndian(operand, relative < FileLength - at ? relative + at : relative - FileLength);
            at += 4;
        }
    }
}

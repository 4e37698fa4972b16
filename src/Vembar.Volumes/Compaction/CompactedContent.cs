using System.Buffers.Binary;
using Vembar.Images.Nodes;

namespace Vembar.Volumes.Compaction;

/// <summary>
/// The plain content of a compacted file. The stream begins with a table: where each unit but the first begins behind the table, in 32
/// bits, or in 64 for contents above 4 GiB; the units follow. One that would not have been shorter stands as it is. One thread at a time.
/// </summary>
/// <remarks>Source: the chunk table of compressed resources as MS-FSCC's references and independent readers of the file system describe
/// it.</remarks>
public sealed class CompactedContent
{
    private const int Batch = 64;

    private readonly ReadAt _read;
    private readonly long _stored;
    private readonly CompactedForm _form;
    private readonly int _unit;
    private readonly long _units;
    private readonly int _entry;
    private readonly byte[] _last;
    private readonly XpressDecoder? _xpress;
    private readonly LzxDecoder? _lzx;
    private byte[] _compressed = [];
    private long _lastUnit = -1;

    /// <summary>Opens a content; nothing is read yet.</summary>
    /// <param name="form">Its form.</param>
    /// <param name="length">Its plain length in bytes.</param>
    /// <param name="stored">The length of the stream that holds it, in bytes.</param>
    /// <param name="read">Reads that stream.</param>
    public CompactedContent(CompactedForm form, long length, long stored, ReadAt read)
    {
        _form = form;
        Length = length;
        _stored = stored;
        _read = read;
        _unit = CompactedForms.Unit(form);
        _units = (length + _unit - 1) / _unit;
        _entry = length > uint.MaxValue ? 8 : 4;
        _last = new byte[_unit];
        if (form == CompactedForm.Lzx)
            _lzx = new LzxDecoder();
        else
            _xpress = new XpressDecoder();
    }

    /// <summary>Its plain length in bytes.</summary>
    public long Length { get; }

    private long TableLength => Math.Max(0, _units - 1) * _entry;

    /// <summary>Reads plain bytes; fewer than asked only at the end.</summary>
    /// <exception cref="InvalidDataException">The stream is damaged.</exception>
    public int Read(Span<byte> to, long offset)
    {
        to = to[..(int)Math.Clamp(Length - offset, 0, to.Length)];
        var done = 0;
        while (done < to.Length)
        {
            var unit = (offset + done) / _unit;
            var inside = (int)((offset + done) % _unit);
            var rest = to[done..];
            if (unit == _lastUnit || inside != 0 || rest.Length < PlainLength(unit))
            {
                if (unit != _lastUnit)
                {
                    _lastUnit = -1;
                    Expand(unit, 1, _last.AsSpan(0, PlainLength(unit)));
                    _lastUnit = unit;
                }
                var count = Math.Min(rest.Length, PlainLength(unit) - inside);
                _last.AsSpan(inside, count).CopyTo(rest);
                done += count;
                continue;
            }
            // Whole units, as many as fit at once.
            var units = (int)Math.Min(Batch, rest.Length / _unit);
            if (units == 0)
                units = 1;
            var length = (int)Math.Min((long)units * _unit, Length - unit * _unit);
            Expand(unit, units, rest[..length]);
            done += length;
        }
        return done;
    }

    private int PlainLength(long unit) => (int)Math.Min(_unit, Length - unit * _unit);

    private void Expand(long first, int count, Span<byte> to)
    {
        // Where the units begin, and where the last one ends.
        Span<byte> table = stackalloc byte[(Batch + 1) * 8];
        Span<long> begins = stackalloc long[Batch + 1];
        var from = Math.Max(0, first - 1);
        var last = Math.Min(first + count, _units - 1);
        var entries = (int)(last - from);
        table = table[..(entries * _entry)];
        if (table.Length > 0)
            ReadAll(table, from * _entry);
        for (var i = 0; i <= count; i++)
        {
            var unit = first + i;
            begins[i] = unit == 0 ? 0 : unit >= _units ? _stored - TableLength : Entry(table, (int)(unit - 1 - from));
        }
        var length = begins[count] - begins[0];
        if (begins[0] < 0 || length < 0 || length > to.Length || begins[count] > _stored - TableLength)
            throw Damaged(first);
        if (_compressed.Length < length)
            _compressed = new byte[Math.Max(length, (long)Math.Min(count, Batch) * _unit)];
        ReadAll(_compressed.AsSpan(0, (int)length), TableLength + begins[0]);
        for (var i = 0; i < count; i++)
        {
            var stored = begins[i + 1] - begins[i];
            var plain = to.Slice(i * _unit, PlainLength(first + i));
            if (stored <= 0 || stored > plain.Length)
                throw Damaged(first + i);
            var bytes = _compressed.AsSpan((int)(begins[i] - begins[0]), (int)stored);
            if (stored == plain.Length)
                bytes.CopyTo(plain);
            else if (!(_lzx is not null ? _lzx.TryExpand(bytes, plain) : _xpress!.TryExpand(bytes, plain)))
                throw Damaged(first + i);
        }
    }

    private long Entry(ReadOnlySpan<byte> table, int index) =>
        _entry == 8 ? (long)BinaryPrimitives.ReadUInt64LittleEndian(table[(8 * index)..])
        : BinaryPrimitives.ReadUInt32LittleEndian(table[(4 * index)..]);

    private void ReadAll(Span<byte> to, long offset)
    {
        if (offset + to.Length > _stored || _read(to, offset) != to.Length)
            throw new InvalidDataException($"its compacted content ({_form}) is cut off");
    }

    private InvalidDataException Damaged(long unit) =>
        new($"its compacted content ({_form}) is damaged, {unit * _unit} bytes from its beginning");
}

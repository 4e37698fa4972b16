using System.Buffers.Binary;
using Vembar.Images.Nodes;

namespace Vembar.Volumes.Compaction;

/// <summary>Makes the stream that holds a compacted content, in one of the XPRESS forms. Content comes in pieces; the table is told
/// last.</summary>
public sealed class Compactor
{
    private readonly Action<ReadOnlySpan<byte>, long> _write;
    private readonly XpressEncoder _encoder = new();
    private readonly byte[] _unit;
    private readonly byte[] _compressed;
    private readonly byte[] _table;
    private readonly int _entry;
    private long _at;
    private int _held;
    private long _units;

    /// <param name="form">One of the XPRESS forms.</param>
    /// <param name="length">The content's length in bytes, known beforehand: the table comes first.</param>
    /// <param name="write">Writes a piece of the stream at a place.</param>
    public Compactor(CompactedForm form, long length, Action<ReadOnlySpan<byte>, long> write)
    {
        _write = write;
        var unit = CompactedForms.Unit(form);
        _unit = new byte[unit];
        _compressed = new byte[unit];
        _entry = length > uint.MaxValue ? 8 : 4;
        _table = new byte[Math.Max(0, (length + unit - 1) / unit - 1) * _entry];
    }

    /// <summary>How long the stream is so far, in bytes.</summary>
    public long Stored => _table.Length + _at;

    /// <summary>Takes the next bytes of the content.</summary>
    public void Add(ReadOnlySpan<byte> bytes)
    {
        while (bytes.Length > 0)
        {
            var count = Math.Min(bytes.Length, _unit.Length - _held);
            bytes[..count].CopyTo(_unit.AsSpan(_held));
            _held += count;
            bytes = bytes[count..];
            if (_held == _unit.Length)
                Close();
        }
    }

    /// <summary>Takes a hole of the content: zeros.</summary>
    public void AddZeros(long count)
    {
        Span<byte> zeros = stackalloc byte[4096];
        zeros.Clear();
        for (; count > 0; count -= Math.Min(count, zeros.Length))
            Add(zeros[..(int)Math.Min(count, zeros.Length)]);
    }

    private void Close()
    {
        var plain = _unit.AsSpan(0, _held);
        if (_units > 0)
        {
            var entry = _table.AsSpan((int)((_units - 1) * _entry));
            if (_entry == 8)
                BinaryPrimitives.WriteInt64LittleEndian(entry, _at);
            else
                BinaryPrimitives.WriteUInt32LittleEndian(entry, (uint)_at);
        }
        var length = _encoder.Compress(plain, _compressed);
        _write(length > 0 ? _compressed.AsSpan(0, length) : plain, _table.Length + _at);
        _at += length > 0 ? length : plain.Length;
        _units++;
        _held = 0;
    }

    /// <summary>Writes what is left, and the table.</summary>
    public void Finish()
    {
        if (_held > 0)
            Close();
        if (_table.Length > 0)
            _write(_table, 0);
    }
}

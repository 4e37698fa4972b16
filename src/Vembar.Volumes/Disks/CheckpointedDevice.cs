using System.Buffers.Binary;
using System.Diagnostics;
using Vembar.Native;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Disks;

/// <summary>
/// A volume that is, whatever ends the writing, as it was at the last checkpoint. What was in use then is not written over: it is held back
/// in memory, and at the next checkpoint goes to a journal first and to its place afterwards. What was free then is written at once: as of
/// the checkpoint nothing refers to it. docs/disk-layout.md, "While it is written".
/// </summary>
public sealed class CheckpointedDevice : IBlockDevice
{
    private const int Unit = 4096, HeadLength = 512, EntryLength = 8;
    private const int StateClean = 0, StateEntries = 1, StateUnsafe = 2;
    private static readonly TimeSpan s_often = TimeSpan.FromSeconds(2);

    private readonly IBlockDevice _volume;
    private readonly IBlockDevice _journal;
    private readonly SortedDictionary<long, byte[]> _held = [];
    private readonly List<(long Start, long End)> _fresh = [];
    private readonly Stopwatch _since = Stopwatch.StartNew();
    private readonly byte[] _used;

    /// <param name="volume">The volume; closed with this.</param>
    /// <param name="journal">A part of the disk that is nobody's, at least 64 KiB; closed with this.</param>
    /// <param name="used">A bit for each cluster of the volume, the lowest first: whether it is in use now.</param>
    /// <param name="clusterSize">How long a cluster is, in bytes.</param>
    public CheckpointedDevice(IBlockDevice volume, IBlockDevice journal, ReadOnlySpan<byte> used, int clusterSize)
    {
        (_volume, _journal) = (volume, journal);
        _used = new byte[(Length + Unit - 1) / Unit / 8 + 1];
        for (var at = 0; at < used.Length * 8; at++)
        {
            if ((used[at >> 3] >> (at & 7) & 1) != 0)
                Mark((long)at * clusterSize, (long)(at + 1) * clusterSize);
        }
        // The end of a volume holds the copy of its beginning, which no cluster counts.
        Mark(Length - Unit, Length);
        WriteHead(StateClean, 0, default);
    }

    /// <summary>Brings a volume to its last checkpoint.</summary>
    /// <returns>False when that cannot be done: it was cut off while it could not be, or there was never one.</returns>
    public static bool Recover(IBlockDevice volume, IBlockDevice journal)
    {
        var head = new byte[HeadLength];
        if (journal.Read(head, 0) < HeadLength || !head.AsSpan().StartsWith(Magic)
            || !Blake3.Hash(head.AsSpan(0, 48)).ToString().AsSpan(0, 32).SequenceEqual(Ascii(head.AsSpan(48, 32))))
            return false;
        var (state, count) =
            (BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(8)), BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(12)));
        if (state != StateEntries)
            return state == StateClean;
        var length = (long)count * (EntryLength + Unit);
        if (count < 0 || HeadLength + length > journal.Length)
            return false;
        var body = new byte[length];
        // Another hash is that of a journal that was being written when it ended: then the volume is still as at the checkpoint before.
        if (journal.Read(body, HeadLength) < length
            || !Blake3.Hash(body).ToString().AsSpan(0, 32).SequenceEqual(Ascii(head.AsSpan(16, 32))))
            return true;
        for (var entry = 0; entry < count; entry++)
        {
            var at = BinaryPrimitives.ReadInt64LittleEndian(body.AsSpan(entry * EntryLength)) * Unit;
            if (at < 0 || at >= volume.Length)
                return false;
            volume.Write(body.AsSpan(count * EntryLength + entry * Unit, (int)Math.Min(Unit, volume.Length - at)), at);
        }
        volume.Flush();
        return true;
    }

    private static string Ascii(ReadOnlySpan<byte> bytes) => System.Text.Encoding.ASCII.GetString(bytes);

    private static ReadOnlySpan<byte> Magic => "VMBJRNL1"u8;

    /// <inheritdoc/>
    public string DisplayName => _volume.DisplayName;

    /// <inheritdoc/>
    public long Length => _volume.Length;

    /// <inheritdoc/>
    public bool MayWrite => true;

    /// <summary>Whether it is time for a checkpoint.</summary>
    public bool IsDue => (long)_held.Count * (Unit + EntryLength) > (_journal.Length - HeadLength) * 3 / 4 || _since.Elapsed > s_often;

    private bool IsUsed(long unit) => (_used[unit >> 3] >> (int)(unit & 7) & 1) != 0;

    private void Mark(long start, long end)
    {
        for (var unit = Math.Max(0, start) / Unit; unit * Unit < Math.Min(end, Length); unit++)
            _used[unit >> 3] |= (byte)(1 << (int)(unit & 7));
    }

    /// <inheritdoc/>
    public int Read(Span<byte> to, long offset)
    {
        var count = _volume.Read(to, offset);
        if (_held.Count == 0)
            return count;
        for (var unit = offset / Unit; unit * Unit < offset + count; unit++)
        {
            if (!IsUsed(unit) || !_held.TryGetValue(unit, out var held))
                continue;
            var from = Math.Max(offset, unit * Unit);
            var end = Math.Min(offset + count, (unit + 1) * Unit);
            held.AsSpan((int)(from - unit * Unit), (int)(end - from)).CopyTo(to[(int)(from - offset)..]);
        }
        return count;
    }

    /// <inheritdoc/>
    public void Write(ReadOnlySpan<byte> from, long offset)
    {
        if (offset < 0 || offset > Length - from.Length)
            throw new NativeException("write beyond the end of the partition", DisplayName, Errno.NoSpace);
        while (from.Length > 0)
        {
            var unit = offset / Unit;
            var end = (unit + 1) * Unit;
            var isUsed = IsUsed(unit);
            while (!isUsed && end < offset + from.Length && !IsUsed(end / Unit))
                end += Unit;
            var count = (int)Math.Min(from.Length, end - offset);
            if (isUsed)
                from[..count].CopyTo(Hold(unit).AsSpan((int)(offset - unit * Unit)));
            else
                WriteFresh(from[..count], offset);
            from = from[count..];
            offset += count;
        }
    }

    private byte[] Hold(long unit)
    {
        if (_held.TryGetValue(unit, out var held))
            return held;
        held = new byte[Unit];
        _volume.Read(held, unit * Unit);
        return _held[unit] = held;
    }

    private void WriteFresh(ReadOnlySpan<byte> from, long offset)
    {
        _volume.Write(from, offset);
        var end = offset + from.Length;
        if (_fresh.Count > 0 && _fresh[^1].End >= offset && _fresh[^1].Start <= offset)
            _fresh[^1] = (_fresh[^1].Start, Math.Max(end, _fresh[^1].End));
        else
            _fresh.Add((offset, end));
    }

    /// <summary>Nothing is made durable before the next checkpoint.</summary>
    public void Flush()
    {
    }

    /// <summary>Makes the volume as it is now what is found after whatever happens next. It has to be in order now: closed.</summary>
    public void Checkpoint()
    {
        _volume.Flush();
        if (_held.Count > 0)
        {
            var length = (long)_held.Count * (EntryLength + Unit);
            var fits = HeadLength + length <= _journal.Length && length < Array.MaxLength;
            if (fits)
                WriteJournal();
            else
            {
                // More than the journal holds: for a moment nothing could be gone on with.
                WriteHead(StateUnsafe, 0, default);
            }
            foreach (var (unit, bytes) in _held)
                _volume.Write(bytes.AsSpan(0, (int)Math.Min(Unit, Length - unit * Unit)), unit * Unit);
            _volume.Flush();
            if (!fits)
                WriteHead(StateClean, 0, default);
            _held.Clear();
        }
        foreach (var (start, end) in _fresh)
            Mark(start, end);
        _fresh.Clear();
        _since.Restart();
    }

    private void WriteJournal()
    {
        var body = new byte[_held.Count * (EntryLength + Unit)];
        var entry = 0;
        foreach (var (unit, bytes) in _held)
        {
            BinaryPrimitives.WriteInt64LittleEndian(body.AsSpan(entry * EntryLength), unit);
            bytes.CopyTo(body, _held.Count * EntryLength + entry * Unit);
            entry++;
        }
        _journal.Write(body, HeadLength);
        _journal.Flush();
        WriteHead(StateEntries, _held.Count, System.Text.Encoding.ASCII.GetBytes(Blake3.Hash(body).ToString()[..32]));
    }

    // One sector: it is written whole or not at all.
    private void WriteHead(int state, int count, ReadOnlySpan<byte> hash)
    {
        var head = new byte[HeadLength];
        Magic.CopyTo(head);
        BinaryPrimitives.WriteInt32LittleEndian(head.AsSpan(8), state);
        BinaryPrimitives.WriteInt32LittleEndian(head.AsSpan(12), count);
        hash.CopyTo(head.AsSpan(16));
        System.Text.Encoding.ASCII.GetBytes(Blake3.Hash(head.AsSpan(0, 48)).ToString()[..32]).CopyTo(head.AsSpan(48));
        _journal.Write(head, 0);
        _journal.Flush();
    }

    /// <summary>Takes a journal off a disk: what it holds is files' content too.</summary>
    /// <param name="disk">The disk.</param>
    /// <param name="start">Where it is.</param>
    /// <param name="length">How long it is.</param>
    internal static void Erase(IBlockDevice disk, long start, long length)
    {
        const int Piece = 1 << 20;
        var zeros = new byte[Piece];
        for (var at = 0L; at < length; at += Piece)
            disk.Write(zeros.AsSpan(0, (int)Math.Min(Piece, length - at)), start + at);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _volume.Dispose();
        _journal.Dispose();
    }
}

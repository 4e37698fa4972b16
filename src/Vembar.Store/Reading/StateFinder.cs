using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Index;
using Vembar.Store.Places;

namespace Vembar.Store.Reading;

/// <summary>
/// Finds the last valid state of an archive. Its record is the last thing in the file, but after an interrupted run; then the file's
/// structures are walked over from the first to the last, by their heads. Where that leads nowhere, all places are looked at at which a
/// record may be, from the end on; holes of the file are passed over.
/// </summary>
internal sealed class StateFinder
{
    private const int Page = 4096;
    private readonly IByteSource _file;
    private readonly ArchiveHeader _header;
    private readonly long _length;

    private StateFinder(IByteSource file, ArchiveHeader header, long length)
    {
        _file = file;
        _header = header;
        _length = length;
    }

    /// <summary>Finds the last valid state.</summary>
    /// <param name="file">The archive.</param>
    /// <param name="header">Its header.</param>
    /// <param name="length">How much of the file there was when it was opened.</param>
    /// <returns>Null when there is none.</returns>
    public static FoundState? Find(IByteSource file, ArchiveHeader header, long length)
    {
        var finder = new StateFinder(file, header, length);
        var last = (length - CommitRecord.Length) / CommitRecord.AlignmentOf(header) * CommitRecord.AlignmentOf(header);
        var commit = last >= header.Length ? finder.RecordAt(last) : null;
        if (commit is not null && commit.Second == last)
            return finder.Found(commit, new Walked(null, commit.End, null));
        var walked = finder.Walk(header.Length);
        if (walked.Stop < length && finder.SearchBack(walked.Stop) is { } further)
            return finder.Found(further, finder.Walk(further.End));
        return walked.Last is { } found ? finder.Found(found, walked) : null;
    }

    /// <summary>Where the second copies of record blocks begin, behind the first copy of the commit record and its index: on another page
    /// than these.</summary>
    public static long SecondPartAt(long first, long indexEnd) =>
        Math.Max(indexEnd, (first + CommitRecord.Length + Page - 1) / Page * Page);

    // How far the structures of the file follow one another.
    private sealed record Walked(CommitRecord? Last, long Stop, Extent? IndexWithoutRecord);

    private CommitRecord? RecordAt(long offset) => CommitRecord.TryRead(_file, _header, offset);

    private FoundState Found(CommitRecord commit, Walked behind) =>
        new(commit, new Lazy<RecordCopy>(() => CopyAt(commit, commit.First)), CopyAt(commit, commit.Second),
            commit.End >= _length ? TailKind.None : Classify(behind));

    private RecordCopy CopyAt(CommitRecord commit, long offset)
    {
        var expected = commit.Encode(offset);
        var there = new byte[expected.Length];
        var got = _file.Read(there, offset);
        if (there.AsSpan().SequenceEqual(expected))
            return RecordCopy.Whole;
        return IsBegun(there.AsSpan(0, got), expected) ? RecordCopy.Missing : RecordCopy.Damaged;
    }

    // Whether bytes are the beginning of what was to be written, maybe none of it, with zeros behind.
    private static bool IsBegun(ReadOnlySpan<byte> there, ReadOnlySpan<byte> expected) =>
        there[there.CommonPrefixLength(expected)..].IndexOfAnyExcept((byte)0) < 0;

    private Walked Walk(long from)
    {
        CommitRecord? last = null;
        Extent? without = null;
        var at = from;
        while (at < _length)
        {
            if (BlockEnd(at) is { } end)
                at = end;
            else if (StateAt(at, out without) is { } commit)
            {
                last = commit;
                at = commit.End;
            }
            else if (!_header.IsFirstFormat && LengthOfIndex(at) is { } part)
                // What a very large state adds to the index is in several segments.
                at += part;
            else
                break;
        }
        return new Walked(last, Math.Min(at, _length), without);
    }

    // Where the block that begins here ends; null when none does, or not within the file.
    private long? BlockEnd(long at)
    {
        Span<byte> start = stackalloc byte[1024];
        var got = _file.Read(start, at);
        if (BlockInfo.DecodeHeader(start[..got], at) is not { } block || at > _length - block.WholeLength)
            return null;
        var headLength = (int)(block.PayloadOffset - at);
        ReadOnlySpan<byte> head = start[..Math.Min(got, headLength)];
        if (headLength > got)
        {
            var whole = new byte[headLength];
            if (_file.Read(whole, at) < headLength)
                return null;
            head = whole;
        }
        return BlockInfo.HeaderChecksum(head) == BinaryPrimitives.ReadUInt64LittleEndian(head[32..]) ? at + block.WholeLength : null;
    }

    // The record of the state whose blocks end here, from either copy.
    private CommitRecord? StateAt(long at, out Extent? without)
    {
        without = null;
        if (_header.IsFirstFormat)
        {
            var length = LengthOfIndex(at);
            if (length is null)
                return null;
            if (RecordAt(CommitRecord.Align(_header, at + length.Value)) is { } single)
                return single;
            without = IndexSegment.Complete(_file, at);
            return null;
        }
        var first = CommitRecord.Align(_header, at);
        if (!IsZero(at, first))
            return null;
        if (RecordAt(first) is { } commit && commit.First == first)
            return commit;
        if (LengthOfIndex(first + CommitRecord.Length) is null
            || IndexSegment.Complete(_file, first + CommitRecord.Length) is not { } index)
            return null;
        if (RecordAt(SecondRecordAt(first, index)) is { } second && second.First == first)
            return second;
        without = index;
        return null;
    }

    private long? LengthOfIndex(long at)
    {
        Span<byte> head = stackalloc byte[16];
        if (_file.Read(head, at) < head.Length || !head.StartsWith(IndexSegment.Beginning))
            return null;
        return BinaryPrimitives.ReadInt64LittleEndian(head[8..]) is > 0 and var length && length <= _length - at ? length : null;
    }

    // Behind the index are the second copies of the record blocks, as the index itself says.
    private long SecondRecordAt(long first, Extent index)
    {
        var end = SecondPartAt(first, index.Offset + index.Length);
        try
        {
            var segment = IndexSegment.Read(_file, index, "", long.MaxValue);
            for (var i = 0; i < segment.BlockCount; i++)
            {
                if (segment.Block(i) is var block && block.Offset > index.Offset)
                    end = Math.Max(end, block.Offset + block.WholeLength);
            }
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            // It is whole, but makes no sense: nobody's doing.
        }
        return CommitRecord.Align(_header, end);
    }

    private bool IsZero(long from, long to)
    {
        Span<byte> bytes = stackalloc byte[(int)(to - from)];
        return bytes[.._file.Read(bytes, from)].IndexOfAnyExcept((byte)0) < 0;
    }

    // A record is written when all of its state is durable, and the second copy when the first one is. So where nothing of the last copy
    // is there, nobody was told that the state is made; where something is, and none is valid, the state was made and is damaged.
    private TailKind Classify(Walked walked)
    {
        var isMade = walked.IndexWithoutRecord is { } index ? IsRecordWritten(index) : walked.Stop < _length && HoldsRecord(walked.Stop);
        return isMade ? TailKind.Damaged : TailKind.Interrupted;
    }

    private bool IsRecordWritten(Extent index)
    {
        var at = _header.IsFirstFormat ? CommitRecord.Align(_header, index.Offset + index.Length)
            : SecondRecordAt(index.Offset - CommitRecord.Length, index);
        var bytes = new byte[CommitRecord.Length];
        var got = bytes.AsSpan(0, Math.Max(0, _file.Read(bytes, at)));
        // Format 1 has one record, which may have been written in part: then what is behind that part is zeros.
        return _header.IsFirstFormat ? got.Length == bytes.Length && got[(CommitRecord.Length / 2)..].IndexOfAnyExcept((byte)0) >= 0
            : got.IndexOfAnyExcept((byte)0) >= 0;
    }

    // Whether there is something behind a place that was once a record of this archive: its beginning is, or its archive and place are.
    private bool HoldsRecord(long from)
    {
        var magic = CommitRecord.MagicOf(_header).ToArray();
        var id = _header.Id.ToByteArray(bigEndian: true);
        return Look(from, (bytes, at) =>
        {
            if (bytes.Length < CommitRecord.Length)
                return false;
            var parts = (bytes.StartsWith(magic) ? 1 : 0) + (bytes[8..24].SequenceEqual(id) ? 1
                : 0) + (BinaryPrimitives.ReadInt64LittleEndian(bytes[32..]) == at ? 1 : 0);
            var isBegun = _header.IsFirstFormat && bytes[(CommitRecord.Length / 2)..CommitRecord.Length].IndexOfAnyExcept((byte)0) < 0;
            return parts >= 2 && !isBegun;
        }) is not null;
    }

    private CommitRecord? SearchBack(long from)
    {
        CommitRecord? found = null;
        Look(from, (bytes, at) => (found = CommitRecord.TryRead(bytes, _header, at)) is not null);
        return found;
    }

    private delegate bool Test(ReadOnlySpan<byte> bytes, long at);

    // The last place behind another one, of those where records may be, at which a test says yes.
    private long? Look(long from, Test test)
    {
        const int Window = 1 << 20;
        var step = CommitRecord.AlignmentOf(_header);
        var buffer = new byte[Window + CommitRecord.Length];
        foreach (var (start, end) in _file.DataRanges(from, _length).Reverse())
        {
            var least = Math.Max(CommitRecord.Align(_header, Math.Max(from, _header.Length)), start / step * step);
            for (var high = (end - 1) / step * step; high >= least;)
            {
                var low = Math.Max(high - Window + step, least);
                var got = buffer.AsSpan(0,
                    _file.Read(buffer.AsSpan(0, (int)Math.Min(high - low + CommitRecord.Length, _length - low)), low));
                for (var at = high; at >= low; at -= step)
                {
                    if (at - low < got.Length && test(got[(int)(at - low)..], at))
                        return at;
                }
                high = low - step;
            }
        }
        return null;
    }
}

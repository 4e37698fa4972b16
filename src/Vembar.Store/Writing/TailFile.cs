using Vembar.Common;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Store.Writing;

/// <summary>A tail that has come whole, about to be added to the archive that it was made for.</summary>
internal static class TailFile
{
    /// <summary>Opens an archive as it would be with a tail behind it.</summary>
    /// <param name="archive">The archive as it is; null where there is none, or where the tail takes its place.</param>
    /// <param name="tail">The tail.</param>
    /// <param name="place">The archive.</param>
    /// <exception cref="VembarException">It is no tail of this archive.</exception>
    public static ArchiveReader Open(ArchiveReader? archive, IByteSource tail, ArchiveLocation place)
    {
        static VembarException Wrong(string why) =>
            VembarException.Input("bad-tail", $"what was sent is not what comes behind the archive's state: {why}");
#pragma warning disable CA2000 // owned by the reader, and shared with who opened them
        IByteSource joined = archive is null ? new SharedByteSource(tail)
            : new JoinedByteSource(archive.File, archive.CommittedLength, tail);
        ArchiveReader with;
        try
        {
            with = ArchiveReader.Open(joined, place, LocalFileSystem.Instance, isWriter: true);
        }
        catch (VembarException problem)
        {
            throw Wrong(problem.Message);
        }
#pragma warning restore CA2000
        try
        {
            if (with.CommittedLength != joined.Length || with.IsNewerStateDamaged)
                throw Wrong("it does not end with a state");
            if (archive is not null && (with.Header.Id != archive.Header.Id || with.Sequence != archive.Sequence + 1
                || with.Commit.Previous != archive.Commit.Second || with.Commit.PreviousFirst != archive.Commit.First))
                throw Wrong("it belongs to another state");
            return with;
        }
        catch
        {
            with.Dispose();
            throw;
        }
    }

    /// <summary>Appends a tail that was looked at: all but the record that makes it count, then that. Whatever stops it before leaves the
    /// state that was there.</summary>
    /// <param name="file">The archive, locked.</param>
    /// <param name="start">Where its state ends.</param>
    /// <param name="tail">The tail.</param>
    /// <param name="with">The archive with it.</param>
    public static void Append(IArchiveFile file, long start, IByteSource tail, ArchiveReader with)
    {
        var records = ((long[])[with.Commit.First, with.Commit.Second]).Distinct().ToList();
        if (file.Length > start)
        {
            file.Truncate(start);
            file.Sync();
        }
        try
        {
            Copy(file, start, tail, records);
            file.Sync();
        }
        catch (IOException)
        {
            // Nothing of it counts yet, so its room is given back.
            TryTruncate(file, start);
            throw;
        }
        foreach (var record in records)
        {
            file.Write(with.Commit.Encode(record), record);
            file.Sync();
        }
    }

    private static void Copy(IByteStore file, long start, IByteSource tail, IReadOnlyList<long> records)
    {
        const int Piece = 1 << 20;
        var buffer = new byte[Piece];
        for (var at = 0L; at < tail.Length;)
        {
            var count = tail.Read(buffer.AsSpan(0, (int)Math.Min(Piece, tail.Length - at)), at);
            if (count == 0)
                throw new IOException("what was sent is shorter than it was");
            foreach (var record in records)
                Clear(buffer.AsSpan(0, count), start + at, record);
            file.Write(buffer.AsSpan(0, count), start + at);
            at += count;
        }
    }

    private static void TryTruncate(IByteStore file, long length)
    {
        try
        {
            file.Truncate(length);
        }
        catch (IOException)
        {
            // The next writer does it.
        }
    }

    private static void Clear(Span<byte> bytes, long at, long record)
    {
        var from = Math.Max(record, at);
        var to = Math.Min(record + Format.CommitRecord.Length, at + bytes.Length);
        if (from < to)
            bytes[(int)(from - at)..(int)(to - at)].Clear();
    }
}

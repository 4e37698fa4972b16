using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Native;
using Vembar.Store.Chunking;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;

namespace Vembar.Images.Contents;

/// <summary>Stores single files, one after the other: for the few that a change brings. A capture has its pipeline.</summary>
internal static class ContentStore
{
    /// <exception cref="VembarException">The file cannot be read or the archive not be written.</exception>
    public static FileContent Add(IChunkSink sink, NewContent content)
    {
        if (content.Bytes is not null)
            return Add(sink, content.Bytes);
        if (content.Path is null)
        {
            using var stream = content.Open();
            var stored = new Collecting(sink, isSparse: false);
            // Filled to the brim: where content is cut must not depend on how it comes.
            stored.Add(to => stream.ReadAtLeast(to, to.Length, throwOnEndOfStream: false));
            return stored.Finish();
        }
        try
        {
            using var file = PosixSourceFile.Open(content.Path!);
            return Add(sink, file);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", content.Path!) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Stores bytes.</summary>
    public static FileContent Add(IChunkSink sink, ReadOnlyMemory<byte> bytes)
    {
        // Too short to be cut: most streams and answer files.
        if (bytes.Length > 0 && bytes.Length <= sink.Sizes.Smallest)
            return new FileContent(bytes.Length, sink.Add(BlockKind.Content, bytes.Span));
        var content = new Collecting(sink, isSparse: false);
        content.Add(to =>
        {
            var count = Math.Min(to.Length, bytes.Length);
            bytes.Span[..count].CopyTo(to);
            bytes = bytes[count..];
            return count;
        });
        return content.Finish();
    }

    /// <summary>Stores a file of a source; its holes are not read.</summary>
    /// <exception cref="NativeException">It cannot be read.</exception>
    public static FileContent Add(IChunkSink sink, ISourceFile file)
    {
        var least = sink.Sizes.Largest;
        var content = new Collecting(sink, HolesOf(file, least) >= SparseContent.Least);
        var length = file.Length;
        for (var at = 0L; at < length;)
        {
            var (start, end) = file.NextData(at);
            if (start - at >= least)
            {
                content.AddHole(start - at);
                at = start;
                continue;
            }
            // Small holes are as well read as zeros.
            while (end < length && file.NextData(end) is var next && next.Start - end < least)
                end = next.Start < next.End ? next.End : length;
            var read = at;
            content.Add(to =>
            {
                var got = file.Read(to[..(int)Math.Min(to.Length, end - read)], read);
                read += got;
                return got;
            });
            if (read == at)
                break;
            at = read;
        }
        return content.Finish();
    }

    /// <summary>How many bytes of a file are in holes of a length.</summary>
    /// <param name="file">The file.</param>
    /// <param name="least">Shorter holes do not count.</param>
    public static long HolesOf(ISourceFile file, int least)
    {
        var holes = 0L;
        for (var at = 0L; at < file.Length;)
        {
            var (start, end) = file.NextData(at);
            holes += start - at >= least ? start - at : 0;
            at = Math.Max(end, at + 1);
        }
        return holes;
    }

    // Fills as much as there is.
    private delegate int Filling(Span<byte> to);

    // The parts of a content as they come.
    private sealed class Collecting(IChunkSink sink, bool isSparse)
    {
        private readonly Chunker _chunker = new(sink.Sizes);
        private readonly Blake3 _whole = new();
        private readonly List<ContentPart> _parts = [];
        private long _length;

        public void Add(Filling fill)
        {
            var buffer = new byte[_chunker.Largest];
            for (var held = 0; ;)
            {
                held += fill(buffer.AsSpan(held));
                if (held == 0)
                    return;
                var cut = _chunker.Next(buffer.AsSpan(0, held));
                _parts.Add(new ContentPart(sink.Add(BlockKind.Content, buffer.AsSpan(0, cut)), cut));
                if (!isSparse)
                    _whole.Append(buffer.AsSpan(0, cut));
                _length += cut;
                held -= cut;
                buffer.AsSpan(cut, held).CopyTo(buffer);
            }
        }

        public void AddHole(long length)
        {
            _parts.Add(new ContentPart(default, length));
            _length += length;
            if (isSparse)
                return;
            var zeros = new byte[1 << 20];
            for (; length > 0; length -= Math.Min(length, zeros.Length))
                _whole.Append(zeros.AsSpan(0, (int)Math.Min(length, zeros.Length)));
        }

        public FileContent Finish() =>
            _length == 0 ? FileContent.Empty : new FileContent(_length, isSparse ? SparseContent.HashOf(_parts) : _whole.Finish(), _parts);
    }
}

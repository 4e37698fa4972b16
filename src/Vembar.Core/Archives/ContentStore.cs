using Vembar.Core.Content;
using Vembar.Core.Trees;

namespace Vembar.Core.Archives;

/// <summary>Stores single files, one after the other: for the few that a change brings. A capture has its pipeline.</summary>
internal static class ContentStore
{
    /// <exception cref="VembarException">The file cannot be read or the archive not be written.</exception>
    public static FileContent Add(ArchiveWriter writer, NewContent content)
    {
        if (content.Bytes is not null)
            return Add(writer, content.Bytes);
        try
        {
            using var file = File.OpenRead(content.Path!);
            return Add(writer, to => file.ReadAtLeast(to, to.Length, throwOnEndOfStream: false));
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", content.Path!) is { } error)
        {
            throw error;
        }
    }

    /// <summary>Stores bytes.</summary>
    public static FileContent Add(ArchiveWriter writer, ReadOnlyMemory<byte> bytes)
    {
        // Too short to be cut: most streams and answer files.
        if (bytes.Length > 0 && bytes.Length <= writer.Base.Header.Sizes.Smallest)
            return new FileContent(bytes.Length, writer.Add(BlockKind.Content, bytes.Span));
        return Add(writer, to =>
        {
            var count = Math.Min(to.Length, bytes.Length);
            bytes.Span[..count].CopyTo(to);
            bytes = bytes[count..];
            return count;
        });
    }

    /// <summary>Stores a file of a source.</summary>
    /// <exception cref="Native.NativeException">It cannot be read.</exception>
    public static FileContent Add(ArchiveWriter writer, Sources.ISourceFile file)
    {
        var at = 0L;
        return Add(writer, to =>
        {
            var got = file.Read(to, at);
            at += got;
            return got;
        });
    }

    // Fills as much as there is.
    private delegate int Filling(Span<byte> to);

    private static FileContent Add(ArchiveWriter writer, Filling fill)
    {
        var chunker = new Chunker(writer.Base.Header.Sizes);
        var whole = new Blake3();
        var buffer = new byte[chunker.Largest];
        var parts = new List<ContentPart>();
        var held = 0;
        var length = 0L;
        while (true)
        {
            held += fill(buffer.AsSpan(held));
            if (held == 0)
                break;
            var cut = chunker.Next(buffer.AsSpan(0, held));
            parts.Add(new ContentPart(writer.Add(BlockKind.Content, buffer.AsSpan(0, cut)), cut));
            whole.Append(buffer.AsSpan(0, cut));
            length += cut;
            held -= cut;
            buffer.AsSpan(cut, held).CopyTo(buffer);
        }
        return length == 0 ? FileContent.Empty : new FileContent(length, whole.Finish(), parts);
    }
}

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
            return Add(writer, new MemoryStream(content.Bytes));
        try
        {
            using var file = File.OpenRead(content.Path!);
            return Add(writer, file);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", content.Path!) is { } error)
        {
            throw error;
        }
    }

    private static FileContent Add(ArchiveWriter writer, Stream stream)
    {
        var chunker = new Chunker(writer.Base.Header.Sizes);
        var whole = new Blake3();
        var buffer = new byte[chunker.Largest];
        var parts = new List<ContentPart>();
        var held = 0;
        var length = 0L;
        while (true)
        {
            held += stream.ReadAtLeast(buffer.AsSpan(held), buffer.Length - held, throwOnEndOfStream: false);
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

using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Images.Nodes;

/// <summary>Content that is not in an archive yet: bytes in memory, a file, or a stream that can be opened.</summary>
/// <param name="Bytes">The bytes; null when something else has them.</param>
/// <param name="Path">The file; null when something else has them.</param>
/// <param name="Length">How many.</param>
public sealed record NewContent(byte[]? Bytes, string? Path, long Length)
{
    private Func<Stream>? Source { get; init; }

    /// <summary>What the archive holds already; null for what is new to it.</summary>
    internal FileContent? Stored { get; private init; }

    /// <summary>Content that the archive of the image holds already, under another name.</summary>
    public static NewContent Of(FileContent content) => new(null, null, content.Length) { Stored = content };

    /// <summary>Content that is read when it is stored, each time from the start.</summary>
    /// <param name="open">Opens it.</param>
    /// <param name="length">Its length in bytes.</param>
    public static NewContent From(Func<Stream> open, long length) => new(null, null, length) { Source = open };

    /// <summary>The content to read, from the start.</summary>
    /// <exception cref="Native.NativeException">Its file cannot be read.</exception>
    /// <exception cref="VembarException">What it comes from cannot be read.</exception>
    public Stream Open()
    {
        if (Bytes is not null)
            return new MemoryStream(Bytes, writable: false);
        if (Source is not null)
            return Source();
        return InputFile.OpenRead(Path!);
    }

    /// <summary>All of it.</summary>
    /// <param name="max">The most bytes that there may be.</param>
    /// <exception cref="Native.NativeException">Its file cannot be read.</exception>
    /// <exception cref="VembarException">It is longer, or cannot be read.</exception>
    public byte[] ToBytes(long max = int.MaxValue)
    {
        if (Bytes is not null)
            return Bytes;
        if (Length > Math.Min(max, Array.MaxLength))
            throw VembarException.Input("too-long", $"'{Path}' has {Length} bytes, more than are read at once", "Choose a smaller file.");
        using var from = Open();
        var bytes = new byte[Length];
        var got = from.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        return got == bytes.Length ? bytes : bytes[..got];
    }
}

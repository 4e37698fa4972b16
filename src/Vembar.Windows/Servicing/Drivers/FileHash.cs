using System.Buffers.Binary;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>What of a file is hashed for a catalog.</summary>
public static class FileHash
{
    private const int PartLength = 1 << 18, HeadersLength = 4096;

    /// <summary>Takes what counts of a file: of a program all but its checksum and its own signature, of any other file
    /// everything.</summary>
    /// <param name="content">The content from its start.</param>
    /// <param name="append">Gets the parts in their order.</param>
    /// <returns>How many zeros would fill a program up to a multiple of eight; 0 for any other file.</returns>
    /// <remarks>Source: the vendor's "Windows Authenticode Portable Executable Signature Format", "Calculating the PE image
    /// hash".</remarks>
    public static int Append(Stream content, Action<ReadOnlySpan<byte>> append)
    {
        var buffer = new byte[PartLength];
        var head = content.ReadAtLeast(buffer, HeadersLength, throwOnEndOfStream: false);
        var leave = Left(buffer.AsSpan(0, head));
        var at = 0L;
        for (var got = head; got > 0; got = content.Read(buffer))
        {
            var from = 0;
            foreach (var (start, length) in leave)
            {
                var begin = (int)Math.Clamp(start - at, from, got);
                var end = (int)Math.Clamp(start + length - at, begin, got);
                append(buffer.AsSpan(from, begin - from));
                from = end;
            }
            append(buffer.AsSpan(from, got - from));
            at += got;
        }
        return leave.Count == 0 ? 0 : (int)((8 - at % 8) % 8);
    }

    // The parts to leave out, in order; none when it is not a program.
    private static List<(long Start, long Length)> Left(ReadOnlySpan<byte> head)
    {
        const int HeaderAt = 0x3C, CoffLength = 24, ChecksumAt = 64, DirectoryLength = 8, CertificateDirectory = 4;
        if (head.Length < HeaderAt + 4 || !head.StartsWith("MZ"u8))
            return [];
        var pe = BinaryPrimitives.ReadInt32LittleEndian(head[HeaderAt..]);
        if (pe < 0 || pe > head.Length - CoffLength - 2 || !head[pe..].StartsWith("PE\0\0"u8))
            return [];
        var optional = pe + CoffLength;
        var directories = optional + (BinaryPrimitives.ReadUInt16LittleEndian(head[optional..]) == 0x20B ? 112 : 96);
        var certificates = directories + CertificateDirectory * DirectoryLength;
        if (certificates + DirectoryLength > head.Length)
            return [];
        var leave = new List<(long, long)> { (optional + ChecksumAt, 4), (certificates, DirectoryLength) };
        if (BinaryPrimitives.ReadUInt32LittleEndian(head[(directories - 4)..]) <= CertificateDirectory)
            leave.RemoveAt(1);
        else if (BinaryPrimitives.ReadUInt32LittleEndian(head[certificates..]) is var table and > 0
            && BinaryPrimitives.ReadUInt32LittleEndian(head[(certificates + 4)..]) is var length and > 0)
            leave.Add((table, length));
        return leave;
    }
}

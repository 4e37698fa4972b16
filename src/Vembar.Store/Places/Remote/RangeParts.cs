using System.Globalization;
using System.Text;

namespace Vembar.Store.Places.Remote;

/// <summary>The answer to a request for several parts: multipart/byteranges, RFC 9110, 14.6.</summary>
internal static class RangeParts
{
    private const int LongestHead = 4096;

    /// <summary>Fills ranges with the parts of an answer.</summary>
    /// <param name="body">The answer.</param>
    /// <param name="boundary">What stands between its parts.</param>
    /// <param name="ranges">What was asked for.</param>
    /// <returns>False when not each is there whole; then nothing of them counts.</returns>
    public static bool TryFill(ReadOnlySpan<byte> body, string boundary, IReadOnlyList<ByteRange> ranges)
    {
        var mark = Encoding.ASCII.GetBytes($"--{boundary}");
        var filled = 0;
        while (body.IndexOf(mark) is >= 0 and var at)
        {
            body = body[(at + mark.Length)..];
            if (body.StartsWith("--"u8))
                break;
            var headEnd = body[..Math.Min(body.Length, LongestHead)].IndexOf("\r\n\r\n"u8);
            if (headEnd < 0 || PlaceOf(Encoding.ASCII.GetString(body[..headEnd])) is not var (from, to))
                return false;
            body = body[(headEnd + 4)..];
            var length = to - from + 1;
            if (length <= 0 || length > body.Length)
                return false;
            foreach (var range in ranges)
            {
                // Neighbours may come as one part.
                if (range.Offset < from || range.Offset + range.Buffer.Length > to + 1)
                    continue;
                body.Slice((int)(range.Offset - from), range.Buffer.Length).CopyTo(range.Buffer.Span);
                range.Count = range.Buffer.Length;
                filled++;
            }
            body = body[(int)length..];
        }
        return filled == ranges.Count;
    }

    // Content-Range: bytes FROM-TO/LENGTH.
    private static (long From, long To)? PlaceOf(string head)
    {
        const string Name = "content-range:";
        var line = head.Split("\r\n").FirstOrDefault(l => l.StartsWith(Name, StringComparison.OrdinalIgnoreCase));
        var text = line?[Name.Length..].Trim();
        if (text is null || !text.StartsWith("bytes ", StringComparison.OrdinalIgnoreCase))
            return null;
        return text[6..].Split('/')[0].Split('-') is [var from, var to]
            && long.TryParse(from, NumberStyles.None, CultureInfo.InvariantCulture, out var first)
            && long.TryParse(to, NumberStyles.None, CultureInfo.InvariantCulture, out var last) && first <= last && last < long.MaxValue
            ? (first, last) : null;
    }
}

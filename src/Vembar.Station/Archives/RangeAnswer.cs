using System.Buffers;
using System.Globalization;
using System.Text;
using Microsoft.Net.Http.Headers;
using Vembar.Store.Places;

namespace Vembar.Station.Archives;

/// <summary>Answers with parts of an archive: RFC 9110, 14; several parts with one answer too.</summary>
public static class RangeAnswer
{
    private const int MostRanges = 1024, Piece = 256 << 10;

    /// <summary>Answers a request.</summary>
    /// <returns>How many bytes were sent.</returns>
    public static async Task<long> WriteAsync(HttpContext context, ArchiveFile file)
    {
        var (request, response) = (context.Request, context.Response);
        response.Headers.AcceptRanges = "bytes";
        response.Headers.ETag = file.Tag;
        response.Headers.CacheControl = "no-cache";
        var ranges = Wanted(request, file);
        if (ranges is null)
        {
            response.ContentType = "application/vnd.vembar.archive";
            response.ContentLength = file.Length;
            return HttpMethods.IsHead(request.Method) ? 0 : await SendAsync(context, file.Source, 0, file.Length).ConfigureAwait(false);
        }
        if (ranges.Count == 0)
        {
            response.StatusCode = StatusCodes.Status416RangeNotSatisfiable;
            response.Headers.ContentRange = $"bytes */{file.Length}";
            return 0;
        }
        response.StatusCode = StatusCodes.Status206PartialContent;
        if (ranges is [var (from, to)])
        {
            response.ContentType = "application/vnd.vembar.archive";
            response.Headers.ContentRange = Place(from, to, file.Length);
            response.ContentLength = to - from + 1;
            return HttpMethods.IsHead(request.Method) ? 0 : await SendAsync(context, file.Source, from, to + 1).ConfigureAwait(false);
        }
        const string Boundary = "part-of-an-archive";
        var heads = ranges.Select(r => Encoding.ASCII.GetBytes(
            $"\r\n--{Boundary}\r\nContent-Type: application/vnd.vembar.archive\r\n"
            + $"Content-Range: {Place(r.From, r.To, file.Length)}\r\n\r\n"))
            .ToList();
        var end = Encoding.ASCII.GetBytes($"\r\n--{Boundary}--\r\n");
        response.ContentType = $"multipart/byteranges; boundary={Boundary}";
        response.ContentLength = heads.Sum(h => (long)h.Length) + ranges.Sum(r => r.To - r.From + 1) + end.Length;
        if (HttpMethods.IsHead(request.Method))
            return 0;
        var sent = 0L;
        foreach (var ((first, last), head) in ranges.Zip(heads))
        {
            await response.Body.WriteAsync(head, context.RequestAborted).ConfigureAwait(false);
            sent += await SendAsync(context, file.Source, first, last + 1).ConfigureAwait(false);
        }
        await response.Body.WriteAsync(end, context.RequestAborted).ConfigureAwait(false);
        return sent;
    }

    private static string Place(long from, long to, long length) =>
        string.Create(CultureInfo.InvariantCulture, $"bytes {from}-{to}/{length}");

    // Null for all of it; none where nothing that was asked for is there.
    private static List<(long From, long To)>? Wanted(HttpRequest request, ArchiveFile file)
    {
        if (!RangeHeaderValue.TryParse(request.Headers.Range.ToString(), out var header) || header.Unit != "bytes"
            || header.Ranges.Count is 0 or > MostRanges)
            return null;
        if (request.Headers.IfRange.Count > 0 && request.Headers.IfRange != file.Tag)
            return null;
        var ranges = new List<(long, long)>();
        foreach (var range in header.Ranges)
        {
            var from = range.From ?? Math.Max(0, file.Length - range.To!.Value);
            var to = range.From is null ? file.Length - 1 : Math.Min(range.To ?? long.MaxValue, file.Length - 1);
            if (from <= to)
                ranges.Add((from, to));
        }
        return ranges;
    }

    private static async Task<long> SendAsync(HttpContext context, IByteSource source, long from, long to)
    {
        var buffer = ArrayPool<byte>.Shared.Rent(Piece);
        try
        {
            var at = from;
            while (at < to)
            {
                var count = await source.ReadAsync(buffer.AsMemory(0, (int)Math.Min(Piece, to - at)), at, context.RequestAborted)
                    .ConfigureAwait(false);
                if (count == 0)
                    throw new IOException("the archive is shorter than it was");
                await context.Response.Body.WriteAsync(buffer.AsMemory(0, count), context.RequestAborted).ConfigureAwait(false);
                at += count;
            }
            return at - from;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }
}

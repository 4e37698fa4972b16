using System.Collections.Concurrent;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Vembar.Tests;

/// <summary>A web server on loopback whose answers a test makes up; null as an answer breaks the connection off.</summary>
public sealed class TestServer : IDisposable
{
    private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
    private readonly Func<TestRequest, TestResponse?> _answer;
    private readonly CancellationTokenSource _stop = new();
    private readonly ConcurrentBag<Task> _connections = [];
    private readonly Task _accepting;
    private int _count;
    private long _bytesSent;

    public TestServer(Func<TestRequest, TestResponse?> answer)
    {
        _answer = answer;
        _listener.Start();
        _accepting = Task.Run(AcceptAsync);
    }

    public string Host => $"127.0.0.1:{((IPEndPoint)_listener.LocalEndpoint).Port}";

    public string Address(string path) => $"http://{Host}{path}";

    public ConcurrentQueue<TestRequest> Requests { get; } = new();

    public long BytesSent => Interlocked.Read(ref _bytesSent);

    private async Task AcceptAsync()
    {
        while (!_stop.IsCancellationRequested)
        {
            try
            {
                var client = await _listener.AcceptTcpClientAsync(_stop.Token).ConfigureAwait(false);
                _connections.Add(Task.Run(() => ServeAsync(client)));
            }
            catch (Exception failure) when (failure is OperationCanceledException or SocketException or ObjectDisposedException)
            {
                return;
            }
        }
    }

    private async Task ServeAsync(TcpClient client)
    {
        using (client)
        {
            try
            {
                client.NoDelay = true;
                var stream = client.GetStream();
                while (await ReadAsync(stream).ConfigureAwait(false) is { } request)
                {
                    Requests.Enqueue(request);
                    if (_answer(request) is not { } response || !await WriteAsync(stream, request, response).ConfigureAwait(false))
                        return;
                }
            }
            catch (Exception failure) when (failure is IOException or OperationCanceledException or SocketException)
            {
                // Whoever asked went away.
            }
        }
    }

    private async Task<TestRequest?> ReadAsync(NetworkStream stream)
    {
        var head = new List<byte>();
        var one = new byte[1];
        while (head.Count < 4 || !head[^4..].SequenceEqual("\r\n\r\n"u8.ToArray()))
        {
            if (await stream.ReadAsync(one, _stop.Token).ConfigureAwait(false) == 0)
                return null;
            head.Add(one[0]);
        }
        var lines = Encoding.ASCII.GetString([.. head]).Split("\r\n", StringSplitOptions.RemoveEmptyEntries);
        var headers = lines.Skip(1).Select(l => l.Split(": ", 2)).ToDictionary(p => p[0], p => p[1], StringComparer.OrdinalIgnoreCase);
        var body = new byte[headers.TryGetValue("Content-Length", out var length) ? int.Parse(length, CultureInfo.InvariantCulture) : 0];
        await stream.ReadExactlyAsync(body, _stop.Token).ConfigureAwait(false);
        return new TestRequest(lines[0].Split(' ')[0], lines[0].Split(' ')[1], headers, body, Interlocked.Increment(ref _count));
    }

    private async Task<bool> WriteAsync(NetworkStream stream, TestRequest request, TestResponse response)
    {
        var body = response.Body ?? [];
        var head = new StringBuilder();
        head.Append(CultureInfo.InvariantCulture, $"HTTP/1.1 {response.Status} x\r\n");
        foreach (var (name, value) in response.Headers)
            head.Append(CultureInfo.InvariantCulture, $"{name}: {value}\r\n");
        if (response.Headers.All(h => h.Name != "Content-Length"))
            head.Append(CultureInfo.InvariantCulture, $"Content-Length: {response.SaysLength ?? body.Length}\r\n");
        head.Append("\r\n");
        await stream.WriteAsync(Encoding.ASCII.GetBytes(head.ToString()), _stop.Token).ConfigureAwait(false);
        if (request.Method == "HEAD")
            return true;
        var count = Math.Min(body.Length, response.CutAfter ?? int.MaxValue);
        await stream.WriteAsync(body.AsMemory(0, count), _stop.Token).ConfigureAwait(false);
        Interlocked.Add(ref _bytesSent, count);
        return response.CutAfter is null;
    }

    /// <summary>Answers for a file, as a web server does that knows ranges.</summary>
    public static TestResponse File(TestRequest request, byte[] bytes)
    {
        if (request.Header("Range")?.Contains(',', StringComparison.Ordinal) == true)
            return Parts(request.Header("Range")!["bytes=".Length..].Split(','), bytes);
        if (request.Range is not var (from, to))
            return new TestResponse(200, bytes);
        if (from >= bytes.Length)
            return new TestResponse(416, [], ("Content-Range", $"bytes */{bytes.Length}"));
        var end = (int)Math.Min(to + 1, bytes.Length);
        return new TestResponse(206, bytes[(int)from..end], ("Content-Range", $"bytes {from}-{end - 1}/{bytes.Length}"));
    }

    private static TestResponse Parts(string[] ranges, byte[] bytes)
    {
        var body = new MemoryStream();
        foreach (var range in ranges)
        {
            var (from, to) = (int.Parse(range.Trim().Split('-')[0], CultureInfo.InvariantCulture),
                int.Parse(range.Split('-')[1], CultureInfo.InvariantCulture));
            body.Write(Encoding.ASCII.GetBytes($"\r\n--part\r\nContent-Range: bytes {from}-{to}/{bytes.Length}\r\n\r\n"));
            body.Write(bytes.AsSpan(from, to - from + 1));
        }
        body.Write("\r\n--part--\r\n"u8);
        return new TestResponse(206, body.ToArray(), ("Content-Type", "multipart/byteranges; boundary=part"));
    }

    public void Dispose()
    {
        _stop.Cancel();
        _listener.Stop();
        Task.WhenAll([_accepting, .. _connections]).Wait(TimeSpan.FromSeconds(30));
        _listener.Dispose();
        _stop.Dispose();
    }
}

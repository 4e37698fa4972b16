using System.Net.Sockets;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Vembar.Volumes.Machines;

/// <summary>Speaks with a running virtual machine (QEMU Machine Protocol: a line of JSON each way, on a socket). What cannot be said to
/// it is
/// let be: whether the machine runs is seen by its process.</summary>
internal sealed class MachineMonitor : IAsyncDisposable
{
    private static readonly TimeSpan s_look = TimeSpan.FromMilliseconds(100);
    private readonly Socket _socket;
    private readonly StreamReader _reader;
    private readonly StreamWriter _writer;
    private readonly Task _events;

    private MachineMonitor(Socket socket)
    {
        _socket = socket;
        var stream = new NetworkStream(socket);
#pragma warning disable CA2000 // they are disposed of with this
        (_reader, _writer) = (new StreamReader(stream), new StreamWriter(stream) { AutoFlush = true, NewLine = "\n" });
#pragma warning restore CA2000
        _events = ReadAsync();
    }

    /// <summary>Why the machine said that it ends, for instance "guest-shutdown"; empty while it did not.</summary>
    public string Ended { get; private set; } = "";

    /// <summary>Connects, as soon as the machine listens.</summary>
    /// <param name="path">The socket.</param>
    /// <param name="isRunning">Whether the machine's process runs.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    /// <returns>Null where it ended before.</returns>
    public static async Task<MachineMonitor?> ConnectAsync(string path, Func<bool> isRunning, CancellationToken cancellation)
    {
        while (isRunning())
        {
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            try
            {
                await socket.ConnectAsync(new UnixDomainSocketEndPoint(path), cancellation).ConfigureAwait(false);
                var monitor = new MachineMonitor(socket);
                await monitor.SayAsync("qmp_capabilities", null).ConfigureAwait(false);
                return monitor;
            }
            catch (SocketException)
            {
                socket.Dispose();
            }
            catch
            {
                socket.Dispose();
                throw;
            }
            await Task.Delay(s_look, cancellation).ConfigureAwait(false);
        }
        return null;
    }

    /// <summary>Makes a picture of its screen.</summary>
    /// <param name="file">The file, PNG.</param>
    public Task PictureAsync(string file) => SayAsync("screendump", new JsonObject { ["filename"] = file, ["format"] = "png" });

    /// <summary>Presses its power button.</summary>
    public Task PressPowerAsync() => SayAsync("system_powerdown", null);

    private async Task SayAsync(string command, JsonObject? arguments)
    {
        var line = new JsonObject { ["execute"] = command };
        if (arguments is not null)
            line["arguments"] = arguments;
        try
        {
            await _writer.WriteLineAsync(line.ToJsonString()).ConfigureAwait(false);
        }
        catch (Exception gone) when (gone is IOException or ObjectDisposedException)
        {
            // It ended.
        }
    }

    private async Task ReadAsync()
    {
        try
        {
            while (await _reader.ReadLineAsync().ConfigureAwait(false) is { } line)
            {
                using var said = JsonDocument.Parse(line);
                if (said.RootElement.TryGetProperty("event", out var what) && what.GetString() == "SHUTDOWN")
                    Ended = said.RootElement.GetProperty("data").GetProperty("reason").GetString() ?? "";
            }
        }
        catch (Exception gone) when (gone is IOException or ObjectDisposedException or JsonException or KeyNotFoundException)
        {
            // It ended.
        }
    }

    public async ValueTask DisposeAsync()
    {
        _socket.Dispose();
        await _events.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        _reader.Dispose();
        await _writer.DisposeAsync().ConfigureAwait(false);
    }
}

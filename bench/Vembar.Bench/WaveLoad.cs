using System.Diagnostics;
using System.Globalization;
using System.Net;
using Vembar.Native.Multicast;

/// <summary>What it takes to send to many, on the loopback interface; who receives only counts.</summary>
/// <param name="Sent">Bytes that went out, of all kinds.</param>
/// <param name="Seconds">How long it took until the last had all.</param>
/// <param name="IsWhole">Whether everybody has all.</param>
internal sealed record WaveLoad(long Sent, double Seconds, bool IsWhole)
{
    /// <summary>The word by which this program is started to receive.</summary>
    public const string Receive = "--receive";

    private const int Piece = 512 << 10, Port = 6213;
    // The library waits by select(2), which knows no file numbers beyond 1023.
    private const int OfOneProcess = 20;

    private static MulticastGroup Group => new(IPAddress.Parse("239.213.80.77"), Port, "lo", IPAddress.Loopback);

    /// <summary>Sends.</summary>
    /// <param name="receivers">To how many.</param>
    /// <param name="bytes">How much, whole pieces of 512 KiB.</param>
    /// <param name="rate">How fast, in bits a second.</param>
    /// <param name="loss">Of how many of a hundred datagrams each acts as though it had not come.</param>
    public static WaveLoad Run(int receivers, int bytes, double rate, double loss)
    {
        var all = new List<Process>();
        try
        {
            for (var left = receivers; left > 0; left -= OfOneProcess)
                all.Add(Process.Start(new ProcessStartInfo(Environment.ProcessPath!, [.. Itself, Receive,
                    .. Texts(Math.Min(left, OfOneProcess), bytes / Piece, loss)])
                { RedirectStandardOutput = true })!);
            foreach (var process in all)
                process.StandardOutput.ReadLine();
            return SendAsync(bytes, rate, receivers, [.. all.Select(p => p.StandardOutput.ReadLineAsync())]).GetAwaiter().GetResult();
        }
        finally
        {
            foreach (var process in all)
            {
                process.Kill();
                process.WaitForExit();
                process.Dispose();
            }
        }
    }

    // Where the program is run by `dotnet`, that is told the program's file.
    private static string[] Itself => Path.GetFileNameWithoutExtension(Environment.ProcessPath) == "dotnet"
        ? [Environment.GetCommandLineArgs()[0]] : [];

    private static string[] Texts(params IReadOnlyList<double> numbers) =>
        [.. numbers.Select(n => n.ToString(CultureInfo.InvariantCulture))];

    /// <summary>Receives: says when it listens, and when all have all.</summary>
    /// <param name="arguments">How many receive, how many pieces, the loss.</param>
    public static int RunReceivers(ReadOnlySpan<string> arguments)
    {
        var (receivers, pieces) = (int.Parse(arguments[0], CultureInfo.InvariantCulture), int.Parse(arguments[1],
            CultureInfo.InvariantCulture));
        var loss = double.Parse(arguments[2], CultureInfo.InvariantCulture);
        using var missing = new CountdownEvent(receivers * pieces);
        var all = Enumerable.Range(0, receivers).Select(_ =>
        {
            var seen = new bool[pieces];
            return new MulticastReceiver(Group, (piece, _, _) =>
            {
                if (piece < 0 || piece >= pieces || seen[piece])
                    return;
                seen[piece] = true;
                missing.Signal();
            }, loss);
        }).ToList();
        Console.WriteLine("listening");
        missing.Wait();
        Console.WriteLine("done");
        // Others may still ask for something.
        Thread.Sleep(Timeout.Infinite);
        GC.KeepAlive(all);
        return 0;
    }

    private static async Task<WaveLoad> SendAsync(int bytes, double rate, int receivers, Task<string?>[] done)
    {
        var content = new byte[Piece];
        var before = OnLoopback();
        using var sender = new MulticastSender(Group, rate, 1, receivers, _ => { });
        var clock = Stopwatch.StartNew();
        for (var number = 0; number < bytes / Piece; number++)
        {
            Random.Shared.NextBytes(content);
            await sender.SendAsync(content, number, CancellationToken.None).ConfigureAwait(false);
        }
        var all = Task.WhenAll(done);
        await Task.WhenAny(all, Task.Delay(TimeSpan.FromSeconds(bytes * 8 / rate * 3 + 10))).ConfigureAwait(false);
        return new WaveLoad(OnLoopback() - before, clock.Elapsed.TotalSeconds, all.IsCompletedSuccessfully);
    }

    private static long OnLoopback() =>
        long.Parse(File.ReadAllText("/sys/class/net/lo/statistics/tx_bytes"), CultureInfo.InvariantCulture);
}

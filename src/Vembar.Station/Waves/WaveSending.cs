using System.Net;
using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Multicast;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Waves;
using Vembar.Station.Archives;
using Vembar.Station.Hosting;

namespace Vembar.Station.Waves;

/// <summary>A wave that is being sent.</summary>
internal sealed class WaveSending : IAsyncDisposable
{
    // Machines that were told listen within that time, or ask for what they missed.
    private static readonly TimeSpan s_longest = TimeSpan.FromSeconds(20), s_settle = TimeSpan.FromSeconds(1.5),
        s_flush = TimeSpan.FromSeconds(8), s_hello = TimeSpan.FromMilliseconds(500),
        s_look = TimeSpan.FromMilliseconds(100);

    private readonly CancellationTokenSource _stop = new();
    private readonly TaskCompletionSource _ready = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly WaveRow _row;
    private readonly ServedArchive _archive;
    private readonly ArchiveFiles _files;
    private readonly WaveOptions _options;
    private readonly int _members;
    private readonly TimeProvider _clock;
    private readonly Task _task;
    private long _sent;

    public WaveSending(WaveRow row, WavePlan plan, ServedArchive archive, ArchiveFiles files, WaveOptions options, int members,
        TimeProvider clock)
    {
        (_row, Plan, _archive, _files, _options, _members, _clock) = (row, plan, archive, files, options, members, clock);
        Next = row.Document.Next;
        _sent = row.Document.Sent;
        _task = Task.Run(RunAsync);
    }

    /// <summary>What is sent.</summary>
    public WavePlan Plan { get; }

    /// <summary>How many pieces have gone out.</summary>
    public int Next { get; private set; }

    /// <summary>Bytes that were sent.</summary>
    public long Sent => Interlocked.Read(ref _sent);

    /// <summary>When it began, UTC.</summary>
    public DateTime? Began { get; private set; }

    /// <summary>Whether it has begun.</summary>
    public bool HasBegun => Began is not null;

    /// <summary>Whether it has ended.</summary>
    public bool IsDone => _task.IsCompleted;

    /// <summary>Why it ended before all was sent; empty for no such reason.</summary>
    public string Problem { get; private set; } = "";

    /// <summary>Says whether all machines that were told are at it.</summary>
    public void MayBegin(bool areThere)
    {
        if (areThere)
            _ready.TrySetResult();
    }

    /// <summary>Ends it, also before its time, and waits for that.</summary>
    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync().ConfigureAwait(false);
        await _task.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        _stop.Dispose();
    }

    // What was given to the sender goes out as fast as the rate lets it.
    private async Task WaitForLastAsync()
    {
        const double Slower = 4, Bits = 8;
        var left = Plan.Pieces.Skip(Next).Sum(p => (long)p.Length);
        var longest = TimeSpan.FromSeconds(left * Bits / _row.Document.Rate * Slower) + s_longest;
        var began = _clock.GetTimestamp();
        while (Next < Plan.Pieces.Count && _clock.GetElapsedTime(began) < longest)
            await Task.Delay(s_look, _clock, _stop.Token).ConfigureAwait(false);
    }

    // They go out in their order.
    private void HasGone(int number)
    {
        if (number < Next)
            return;
        Next = number + 1;
        Interlocked.Add(ref _sent, Plan.Pieces[number].Length);
    }

    // Until all are there, and a moment longer: who hears it knows that the wave reaches it.
    private async Task SayHelloAsync(MulticastSender sender)
    {
        var began = _clock.GetTimestamp();
        var until = s_longest;
        byte[] hello = [1];
        do
        {
            if (_ready.Task.IsCompleted && until == s_longest)
                until = TimeSpan.FromTicks(Math.Min(s_longest.Ticks, (_clock.GetElapsedTime(began) + s_settle).Ticks));
            await sender.SendAsync(hello, WaveInbox.Hello, _stop.Token).ConfigureAwait(false);
            await Task.Delay(s_hello, _clock, _stop.Token).ConfigureAwait(false);
        }
        while (_clock.GetElapsedTime(began) < until);
    }

    private async Task RunAsync()
    {
        try
        {
            using var sender = new MulticastSender(new MulticastGroup(IPAddress.Parse(_row.Document.Group), _row.Port, _options.Interface,
                IPAddress.Parse(_row.Document.Source)),
                _row.Document.Rate, _options.Hops, _members, HasGone);
            await SayHelloAsync(sender).ConfigureAwait(false);
            Began = _row.Document.Began ?? _clock.GetUtcNow().UtcDateTime;
            using var lease = await _files.TakeAsync(_archive, _stop.Token).ConfigureAwait(false);
            var buffer = new byte[MulticastSender.LongestPiece];
            for (var number = Next; number < Plan.Pieces.Count; number++)
            {
                var piece = Plan.Pieces[number];
                var bytes = buffer.AsMemory(0, piece.Length);
                if (await lease.File.Source.ReadAsync(bytes, piece.Offset, _stop.Token).ConfigureAwait(false) < bytes.Length)
                    throw VembarException.Damaged($"'{_archive.Name}' is cut short");
                await sender.SendAsync(bytes, number, _stop.Token).ConfigureAwait(false);
            }
            await WaitForLastAsync().ConfigureAwait(false);
            await sender.FlushAsync(s_flush, _stop.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // Somebody stopped it, or the station ends.
        }
        catch (Exception failure) when (failure is VembarException or NativeException or IOException or DllNotFoundException)
        {
            Problem = failure is DllNotFoundException ? "libnorm is not installed" : failure.Message;
        }
    }
}

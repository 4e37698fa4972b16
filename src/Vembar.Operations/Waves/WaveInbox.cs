using Vembar.Operations.Stations.Contract;

namespace Vembar.Operations.Waves;

/// <summary>Pieces of a wave that a machine has heard and not used yet, and those that it waits for. All members may be used by several
/// threads at once.</summary>
/// <param name="plan">What the wave sends.</param>
/// <param name="room">How many bytes may be held.</param>
/// <param name="clock">Tells how long nothing came.</param>
public sealed class WaveInbox(WavePlan plan, long room, TimeProvider clock)
{
    // Who lacks a piece has asked for it again long before so many others have come.
    private const int Late = 192;
    private const long LateBytes = 24 << 20;
    // Of the next that come, even who is in a hurry takes the one that it needs.
    private const int Soon = 4;
    private static readonly TimeSpan s_patience = TimeSpan.FromSeconds(3);

    /// <summary>How long nothing may come of a wave before it is taken for one that does not reach this machine.</summary>
    public static readonly TimeSpan Silence = TimeSpan.FromSeconds(8);

    private readonly Lock _gate = new();
    private readonly Dictionary<int, byte[]> _held = [];
    private readonly int[] _left = [.. plan.Pieces.Select(p => p.Length)];
    // Where each begins in all that is sent.
    private readonly long[] _starts = StartsOf(plan);
    private readonly bool[] _gone = new bool[plan.Pieces.Count];
    private readonly Dictionary<int, TaskCompletionSource<byte[]?>> _waiting = [];
    // Only where they leave room for the others.
    private readonly int _again = plan.Pieces.Take(plan.Again).Sum(p => (long)p.Length) < room / 4 ? plan.Again : 0;
    private long _bytes;
    private bool _isEnded;
    private int _first = -1, _newest = -1;
    private long _last = clock.GetTimestamp();

    /// <summary>The number of what is sent before the first piece, so that who hears it knows that the wave reaches it.</summary>
    public const int Hello = -1;

    /// <summary>Bytes that came.</summary>
    public long Heard { get; private set; }

    /// <summary>Pieces that came and were not what the station sends.</summary>
    public int Forged { get; private set; }

    /// <summary>Pieces for which there was no room, because the machine is slower than the wave.</summary>
    public int Overflown { get; private set; }

    /// <summary>Whether nothing comes.</summary>
    public bool IsSilent { get; private set; }

    /// <summary>A piece came.</summary>
    /// <param name="number">Which.</param>
    /// <param name="bytes">Its bytes.</param>
    public void Came(int number, ReadOnlySpan<byte> bytes)
    {
        if (number == Hello)
            Hear();
        if (number < 0 || number >= plan.Pieces.Count)
            return;
        var piece = plan.Pieces[number];
        if (bytes.Length != piece.Length || WavePlanner.HashOf(bytes) != piece.Hash)
        {
            lock (_gate)
                Forged++;
            return;
        }
        TaskCompletionSource<byte[]?>? waiting = null;
        byte[]? kept = null;
        lock (_gate)
        {
            if (_first < 0)
                _first = number;
            _newest = Math.Max(_newest, number);
            Hear();
            if (!_gone[number] && !_held.ContainsKey(number))
            {
                Heard += bytes.Length;
                if (_waiting.Remove(number, out waiting) || _bytes + bytes.Length <= room)
                {
                    _held[number] = kept = bytes.ToArray();
                    _bytes += bytes.Length;
                }
                else
                {
                    _gone[number] = true;
                    Overflown++;
                }
            }
        }
        waiting?.TrySetResult(kept);
        GiveUp();
    }

    private void Hear()
    {
        lock (_gate)
        {
            _last = clock.GetTimestamp();
            IsSilent = _isEnded;
        }
    }

    /// <summary>Waits for a piece.</summary>
    /// <param name="number">Which.</param>
    /// <param name="isUrgent">Whether somebody needs it before anything else goes on: then content that comes much later is not waited for,
    /// while all that comes before it would have to be held. Index and folders come first, and are.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    /// <returns>Its bytes; null where it does not come any more.</returns>
    public async ValueTask<byte[]?> WaitAsync(int number, bool isUrgent, CancellationToken cancellation)
    {
        TaskCompletionSource<byte[]?>? waiting;
        lock (_gate)
        {
            if (_held.TryGetValue(number, out var bytes))
                return bytes;
            if (IsLost(number) || isUrgent && number >= plan.Again && number - _newest > Soon)
                return null;
            if (!_waiting.TryGetValue(number, out waiting))
                _waiting[number] = waiting = new TaskCompletionSource<byte[]?>(TaskCreationOptions.RunContinuationsAsynchronously);
        }
        return await waiting.Task.WaitAsync(cancellation).ConfigureAwait(false);
    }

    // Sent before this machine heard anything, thrown away, or so long ago that nobody sends it again.
    private bool IsLost(int number) => IsSilent || _gone[number] || _first >= 0 && number < _first || HasPassed(number)
        || _newest >= 0 && clock.GetElapsedTime(_last) > s_patience && number <= _newest;

    private bool HasPassed(int number) => _newest > number && (_newest - number > Late || _starts[_newest] - _starts[number] > LateBytes);

    private static long[] StartsOf(WavePlan plan)
    {
        var starts = new long[plan.Pieces.Count];
        for (var number = 1; number < starts.Length; number++)
            starts[number] = starts[number - 1] + plan.Pieces[number - 1].Length;
        return starts;
    }

    /// <summary>Says that part of a piece was used; who has used all of it needs it no longer.</summary>
    public void Used(int number, int bytes)
    {
        lock (_gate)
        {
            if ((_left[number] -= bytes) > 0 || _gone[number] || number < _again)
                return;
            _gone[number] = true;
            if (_held.Remove(number, out var held))
                _bytes -= held.Length;
        }
    }

    /// <summary>Looks for what does not come any more; called now and then.</summary>
    public void GiveUp()
    {
        List<TaskCompletionSource<byte[]?>> lost = [];
        lock (_gate)
        {
            IsSilent |= clock.GetElapsedTime(_last) > Silence;
            foreach (var number in _waiting.Keys.Where(IsLost).ToList())
            {
                _waiting.Remove(number, out var waiting);
                lost.Add(waiting!);
            }
        }
        foreach (var waiting in lost)
            waiting.TrySetResult(null);
    }

    /// <summary>Nobody is kept waiting any more.</summary>
    public void End()
    {
        lock (_gate)
        {
            IsSilent = _isEnded = true;
            _held.Clear();
            _bytes = 0;
        }
        GiveUp();
    }
}

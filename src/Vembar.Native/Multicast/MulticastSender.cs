using System.Collections.Concurrent;
using System.Runtime.InteropServices;

namespace Vembar.Native.Multicast;

/// <summary>Sends pieces to many at once; who lacks part of one asks for it again (RFC 5740), or mends it by what was sent beside it.
/// One thread at a time sends.</summary>
public sealed class MulticastSender : MulticastSession
{
    // A datagram fits an Ethernet frame; of so many, so many more are computed when somebody lacks some.
    private const int Segment = 1400, Data = 64, Parity = 8;
    private const uint Room = 32 << 20, Least = 8, Most = 256;
    private const int SocketBuffer = 4 << 20;
    private readonly MulticastGroup _group;
    private readonly ConcurrentDictionary<nint, (nint Memory, int Number)> _memory = new();
    private readonly Action<int> _sent;
    private readonly SemaphoreSlim _vacancy = new(0);
    // What was said of what was sent before does not count for what was sent since.
    private volatile bool _isFlushed;

    /// <summary>How long a piece may be, in bytes.</summary>
    public const int LongestPiece = 1 << 20;

    /// <param name="group">Where it goes.</param>
    /// <param name="rate">How fast, in bits a second.</param>
    /// <param name="ttl">Over how many routers, and one.</param>
    /// <param name="receivers">About how many there are.</param>
    /// <param name="sent">Told each piece that has gone out for the first time; by one thread at a time.</param>
    /// <exception cref="NativeException">It cannot be.</exception>
    /// <exception cref="DllNotFoundException">libnorm is not installed.</exception>
    public MulticastSender(MulticastGroup group, double rate, int ttl, int receivers, Action<int> sent)
        : base(group, 1)
    {
        _group = group;
        _sent = sent;
        // By the group's own port, so that receivers know where what is the sender's comes from.
        NormLibrary.NormSetTxPort(Session, (ushort)group.Port, true, group.Source?.ToString());
        NormLibrary.NormSetTTL(Session, (byte)ttl);
        // Receivers on the same machine, as in namespaces of it, are on other interfaces.
        NormLibrary.NormSetMulticastLoopback(Session, true);
        NormLibrary.NormSetTxRate(Session, rate);
        NormLibrary.NormSetCongestionControl(Session, false, false);
        NormLibrary.NormSetGrttEstimate(Session, 0.05);
        NormLibrary.NormSetGrttMax(Session, 0.5);
        NormLibrary.NormSetGroupSize(Session, (uint)Math.Max(10, receivers));
        NormLibrary.NormSetTxCacheBounds(Session, Room, Least, Most);
        if (!NormLibrary.NormStartSender(Session, (ushort)Random.Shared.Next(1, ushort.MaxValue), Room, Segment, Data, Parity, 0))
        {
            Dispose();
            throw Failed("send by", group);
        }
        NormLibrary.NormSetTxSocketBuffer(Session, SocketBuffer);
        BeginEvents();
    }

    /// <summary>Sends a piece, as soon as there is room for it.</summary>
    /// <param name="piece">The piece, up to <see cref="LongestPiece"/> bytes.</param>
    /// <param name="number">Which it is.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    public async Task SendAsync(ReadOnlyMemory<byte> piece, int number, CancellationToken cancellation)
    {
        const int Milliseconds = 20;
        while (!TryEnqueue(piece.Span, number))
            await _vacancy.WaitAsync(Milliseconds, cancellation).ConfigureAwait(false);
    }

    private unsafe bool TryEnqueue(ReadOnlySpan<byte> piece, int number)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(piece.Length, LongestPiece);
        var memory = (byte*)NativeMemory.Alloc((nuint)piece.Length);
        piece.CopyTo(new Span<byte>(memory, piece.Length));
        // What happens to it is told when it is known.
        lock (_memory)
        {
            var handle = NormLibrary.NormDataEnqueue(Session, memory, (uint)piece.Length, (byte*)&number, sizeof(int));
            if (handle == 0)
            {
                NativeMemory.Free(memory);
                return false;
            }
            _memory[handle] = ((nint)memory, number);
            _isFlushed = false;
            return true;
        }
    }

    /// <summary>Waits until all was sent, and those who lack something had time to ask for it.</summary>
    public async Task FlushAsync(TimeSpan most, CancellationToken cancellation)
    {
        const int Milliseconds = 50;
        var clock = System.Diagnostics.Stopwatch.StartNew();
        // Who still lacks something then gets it otherwise.
        while (!_isFlushed && clock.Elapsed < most)
            await _vacancy.WaitAsync(Milliseconds, cancellation).ConfigureAwait(false);
    }

    private protected override unsafe void Happened(int kind, nint sender, nint handle)
    {
        switch ((NormLibrary.EventKind)kind)
        {
            case NormLibrary.EventKind.SendQueueVacancy:
                _vacancy.Release();
                break;
            case NormLibrary.EventKind.SendFlushCompleted:
                _isFlushed = true;
                _vacancy.Release();
                break;
            case NormLibrary.EventKind.SendObjectSent:
                if (Of(handle) is { } sent)
                    _sent(sent.Number);
                break;
            case NormLibrary.EventKind.SendObjectPurged:
                if (Of(handle) is { } purged && _memory.TryRemove(handle, out _))
                    NativeMemory.Free((void*)purged.Memory);
                _vacancy.Release();
                break;
        }
    }

    private (nint Memory, int Number)? Of(nint handle)
    {
        lock (_memory)
            return _memory.TryGetValue(handle, out var found) ? found : null;
    }

    /// <inheritdoc/>
    protected override unsafe void Ended()
    {
        foreach (var (memory, _) in _memory.Values)
            NativeMemory.Free((void*)memory);
        _memory.Clear();
        _vacancy.Dispose();
    }

    /// <inheritdoc/>
    public override string ToString() => $"{_group}";
}

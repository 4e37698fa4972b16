using System.Net;

namespace Vembar.Native.Multicast;

/// <summary>Receives pieces that are sent to many.</summary>
public sealed unsafe class MulticastReceiver : MulticastSession
{
    private const uint Room = 16 << 20;
    private const ushort Most = 256;
    private const int SocketBuffer = 16 << 20, ModestBuffer = 208 << 10;
    private readonly PieceAction _came;

    /// <summary>What is done with a piece; by one thread at a time.</summary>
    /// <param name="number">Which it is.</param>
    /// <param name="bytes">Its bytes; they are gone afterwards.</param>
    /// <param name="from">Who sent it; null for who cannot be told.</param>
    public delegate void PieceAction(int number, ReadOnlySpan<byte> bytes, IPAddress? from);

    /// <param name="group">The group.</param>
    /// <param name="came">Told each piece.</param>
    /// <param name="loss">For trials: of how many of a hundred datagrams it acts as though they had not come.</param>
    /// <exception cref="NativeException">It cannot be.</exception>
    /// <exception cref="DllNotFoundException">libnorm is not installed.</exception>
    public MulticastReceiver(MulticastGroup group, PieceAction came, double loss = 0)
        // The sender is 1.
        : base(group, (uint)Random.Shared.NextInt64(2, uint.MaxValue - 1))
    {
        _came = came;
        NormLibrary.NormSetCongestionControl(Session, false, false);
        NormLibrary.NormSetRxCacheLimit(Session, Most);
        NormLibrary.NormSetRxLoss(Session, loss);
        // What is asked for again is asked of the sender, and of nobody else.
        NormLibrary.NormSetDefaultUnicastNack(Session, true);
        // Several on one machine; what others send does not reach the library, which would make room for each of them.
        NormLibrary.NormSetRxPortReuse(Session, true, group.Address.ToString(), group.Source?.ToString(), (ushort)group.Port);
        if (!NormLibrary.NormStartReceiver(Session, Room))
        {
            Dispose();
            throw Failed("receive by", group);
        }
        // As large as the system lets it be.
        if (!NormLibrary.NormSetRxSocketBuffer(Session, SocketBuffer))
            NormLibrary.NormSetRxSocketBuffer(Session, ModestBuffer);
        BeginEvents();
    }

    private protected override void Happened(int kind, nint sender, nint handle)
    {
        if ((NormLibrary.EventKind)kind != NormLibrary.EventKind.ReceiveObjectCompleted)
            return;
        int number;
        var length = NormLibrary.NormObjectGetSize(handle);
        if (length is <= 0 or > MulticastSender.LongestPiece
            || NormLibrary.NormObjectGetInfo(handle, (byte*)&number, sizeof(int)) != sizeof(int)
            || NormLibrary.NormDataAccessData(handle) is not (not 0 and var data))
            return;
        _came(number, new ReadOnlySpan<byte>((void*)data, (int)length), AddressOf(sender));
    }
}

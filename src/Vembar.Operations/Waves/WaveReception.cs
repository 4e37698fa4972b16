using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Vembar.Native;
using Vembar.Native.Multicast;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places;

namespace Vembar.Operations.Waves;

/// <summary>A machine's part in a wave: hears it, and hands what it heard to whoever reads the archive.</summary>
public sealed class WaveReception : IDisposable
{
    private static readonly TimeSpan s_look = TimeSpan.FromMilliseconds(250);
    private readonly WavePlan _plan;
    private readonly WaveInbox _inbox;
    private readonly MulticastReceiver _receiver;
    private readonly ITimer _timer;
    private readonly Action<string> _warn;
    private long _asked;
    private bool _wasSilent;
    private int _strangers;

    private WaveReception(WaveOrder order, WavePlan plan, string station, long room, TimeProvider clock, Action<string> warn)
    {
        _plan = plan;
        _warn = warn;
        _inbox = new WaveInbox(plan, room, clock);
        var group = IPAddress.Parse(order.Group);
        _receiver = new MulticastReceiver(new MulticastGroup(group, order.Port, InterfaceTo(station, group.AddressFamily),
            IPAddress.Parse(order.Source)), Came);
        _timer = clock.CreateTimer(_ => Look(), null, s_look, s_look);
    }

    /// <summary>Begins to hear a wave.</summary>
    /// <param name="order">Where it is heard.</param>
    /// <param name="plan">What it sends.</param>
    /// <param name="station">The station's address.</param>
    /// <param name="room">How many bytes may be held.</param>
    /// <param name="clock">Tells how long nothing came.</param>
    /// <param name="warn">Told what somebody should know.</param>
    /// <returns>Null where it cannot be heard; then all is asked for.</returns>
    public static WaveReception? Begin(WaveOrder order, WavePlan plan, string station, long room, TimeProvider clock, Action<string> warn)
    {
        try
        {
            return new WaveReception(order, plan, station, room, clock, warn);
        }
        catch (Exception failure) when (failure is DllNotFoundException or NativeException or FormatException or SocketException
            or NetworkInformationException)
        {
            warn(failure is DllNotFoundException
                ? "the wave is not heard, for libnorm is not there (Debian: libnorm1): asking for everything"
                : $"the wave is not heard ({failure.Message}): asking for everything");
            return null;
        }
    }

    /// <summary>Bytes of the wave that were heard, and those that were asked for.</summary>
    public (long Heard, long Asked) Bytes => (_inbox.Heard, Interlocked.Read(ref _asked));

    /// <summary>Files of which one archive comes with the wave.</summary>
    public IFileSystem Over(IFileSystem files, string archive) =>
        new OverlaidFileSystem(files, archive,
            () => new WaveByteSource(files.OpenRead(archive), _plan, _inbox, bytes => Interlocked.Add(ref _asked, bytes)));

    private void Came(int number, ReadOnlySpan<byte> bytes, IPAddress? from)
    {
        _inbox.Came(number, bytes);
        if (_inbox.Forged > 0 && Interlocked.Exchange(ref _strangers, 1) == 0)
            _warn($"what came of the wave from {from} is not what the station sends: not taken");
    }

    private void Look()
    {
        _inbox.GiveUp();
        if (_inbox.IsSilent == _wasSilent)
            return;
        _wasSilent = _inbox.IsSilent;
        _warn(_wasSilent ? $"nothing of the wave has come for {WaveInbox.Silence.TotalSeconds:0} s: asking for what is missing"
            : "the wave is heard again");
    }

    // The interface that leads to the station; empty for what the system chooses.
    private static string InterfaceTo(string station, AddressFamily family)
    {
        var address = Dns.GetHostAddresses(new Uri(station).Host).OrderBy(a => a.AddressFamily == family ? 0 : 1).First();
        using var socket = new Socket(address.AddressFamily, SocketType.Dgram, ProtocolType.Udp);
        // Nothing is sent by that.
        socket.Connect(new IPEndPoint(address, 9));
        var own = ((IPEndPoint)socket.LocalEndPoint!).Address;
        return NetworkInterface.GetAllNetworkInterfaces()
            .FirstOrDefault(i => i.GetIPProperties().UnicastAddresses.Any(a => a.Address.Equals(own)))?.Name ?? "";
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        _timer.Dispose();
        _receiver.Dispose();
        _inbox.End();
    }
}

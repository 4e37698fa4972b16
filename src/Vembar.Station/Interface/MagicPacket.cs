using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;

namespace Vembar.Station.Interface;

/// <summary>Calls machines that are switched off: six bytes of ones, then the adapter's address sixteen times, sent to everybody.</summary>
public static class MagicPacket
{
    private const int Port = 9, Ones = 6, Times = 16;

    /// <summary>The packet for an adapter.</summary>
    public static byte[] For(PhysicalAddress adapter)
    {
        var address = adapter.GetAddressBytes();
        return [.. Enumerable.Repeat((byte)0xFF, Ones), .. Enumerable.Repeat(address, Times).SelectMany(a => a)];
    }

    /// <summary>Sends it out of every interface that can reach everybody on its network.</summary>
    public static async Task SendAsync(IEnumerable<string> adapters, CancellationToken cancellation)
    {
        var packets = adapters.Select(a => PhysicalAddress.TryParse(a.Replace(':', '-').ToUpperInvariant(), out var parsed) ? parsed : null)
            .OfType<PhysicalAddress>().Select(For).ToList();
        foreach (var own in NetworkInterface.GetAllNetworkInterfaces()
            .Where(n => n.OperationalStatus == OperationalStatus.Up && n.NetworkInterfaceType != NetworkInterfaceType.Loopback)
            .SelectMany(n => n.GetIPProperties().UnicastAddresses).Where(a => a.Address.AddressFamily == AddressFamily.InterNetwork))
        {
            using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Dgram, ProtocolType.Udp) { EnableBroadcast = true };
            try
            {
                socket.Bind(new IPEndPoint(own.Address, 0));
                var address = own.Address.GetAddressBytes();
                var mask = own.IPv4Mask.GetAddressBytes();
                var everybody = new IPAddress([.. address.Zip(mask, (a, m) => (byte)(a | ~m))]);
                foreach (var packet in packets)
                    await socket.SendToAsync(packet, SocketFlags.None, new IPEndPoint(everybody, Port), cancellation).ConfigureAwait(false);
            }
            catch (SocketException)
            {
                // Another interface may reach it.
            }
        }
    }
}

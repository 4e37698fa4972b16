using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;

namespace Vembar.Native.Multicast;

/// <summary>Where datagrams to many go.</summary>
/// <param name="Address">The group's address, IPv4 or IPv6.</param>
/// <param name="Port">Its port.</param>
/// <param name="Interface">The network interface that it is reached through; empty for what the system chooses.</param>
/// <param name="Source">The address that is sent from; what comes from others is not received. Null for any.</param>
public sealed record MulticastGroup(IPAddress Address, int Port, string Interface, IPAddress? Source = null)
{
    /// <summary>The address that the system would send to the group from.</summary>
    /// <exception cref="SocketException">It has none.</exception>
    /// <exception cref="NetworkInformationException">There is no such interface.</exception>
    public IPAddress OwnSource()
    {
        using var socket = new Socket(Address.AddressFamily, SocketType.Dgram, ProtocolType.Udp);
        var isSix = Address.AddressFamily == AddressFamily.InterNetworkV6;
        if (Interface.Length > 0)
        {
            var index = NetworkInterface.GetAllNetworkInterfaces().FirstOrDefault(i => i.Name == Interface) is { } found
                ? isSix ? found.GetIPProperties().GetIPv6Properties().Index : found.GetIPProperties().GetIPv4Properties().Index
                : throw new NetworkInformationException(Errno.NotFound);
            socket.SetSocketOption(isSix ? SocketOptionLevel.IPv6 : SocketOptionLevel.IP, SocketOptionName.MulticastInterface,
                isSix ? index : IPAddress.HostToNetworkOrder(index));
        }
        // Nothing is sent by that.
        socket.Connect(new IPEndPoint(Address, Port));
        return ((IPEndPoint)socket.LocalEndPoint!).Address;
    }
}

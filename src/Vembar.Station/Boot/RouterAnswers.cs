using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Vembar.Native;

namespace Vembar.Station.Boot;

/// <summary>Answers machines that ask for an IPv6 router (RFC 4861, 4.1 and 4.2): that there is none. Boot loaders wait a quarter of a
/// minute
/// for one before they go on by IPv4.</summary>
internal static class RouterAnswers
{
    private const byte Solicitation = 133, HopLimit = 255;
    private const int Longest = 1500;
    // Type 134; no hop limit of its own, no flags, no lifetime: no router, no addresses. The system puts in the checksum.
    private static readonly byte[] s_none = [134, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

    /// <summary>Answers until it is ended.</summary>
    /// <param name="name">The interface.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="SocketException">The interface has no IPv6, or this may not be done.</exception>
    /// <exception cref="NetworkInformationException">There is no such interface.</exception>
    public static async Task RunAsync(string name, CancellationToken cancellation)
    {
        var found = NetworkInterface.GetAllNetworkInterfaces().FirstOrDefault(i => i.Name == name)
            ?? throw new NetworkInformationException(Errno.NotFound);
        var index = found.GetIPProperties().GetIPv6Properties().Index;
        var (routers, nodes) = (IPAddress.Parse("ff02::2"), IPAddress.Parse("ff02::1"));
        using var socket = new Socket(AddressFamily.InterNetworkV6, SocketType.Raw, ProtocolType.IcmpV6);
        socket.SetSocketOption(SocketOptionLevel.IPv6, SocketOptionName.AddMembership, new IPv6MulticastOption(routers, index));
        socket.SetSocketOption(SocketOptionLevel.IPv6, SocketOptionName.MulticastInterface, index);
        // Whoever sends from farther than the next cable is not heard.
        socket.SetSocketOption(SocketOptionLevel.IPv6, SocketOptionName.MulticastTimeToLive, HopLimit);
        var buffer = new byte[Longest];
        var anybody = new IPEndPoint(IPAddress.IPv6Any, 0);
        socket.Bind(anybody);
        while (!cancellation.IsCancellationRequested)
        {
            var came = await socket.ReceiveFromAsync(buffer, anybody, cancellation).ConfigureAwait(false);
            // Who has no address yet asks from none.
            if (came.ReceivedBytes > 0 && buffer[0] == Solicitation && came.RemoteEndPoint is IPEndPoint { Address: var from }
                && (from.ScopeId == index || from.Equals(IPAddress.IPv6Any)))
                await socket.SendToAsync(s_none, new IPEndPoint(new IPAddress(nodes.GetAddressBytes(), index), 0), cancellation)
                    .ConfigureAwait(false);
        }
    }
}

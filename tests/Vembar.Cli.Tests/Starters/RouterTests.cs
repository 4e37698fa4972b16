using Vembar.Cli.Tests.Stations;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Machines that look for an IPv6 router before they start.</summary>
public sealed class RouterTests(World world)
{
    // RFC 4861, 4.1: asks every half second, and prints what is answered.
    private const string Ask = """
        import socket, sys
        s = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6)
        card = socket.if_nametoindex('e0')
        s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 255)
        s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, card)
        s.settimeout(0.5)
        for turn in range(120):
            s.sendto(bytes([133, 0, 0, 0, 0, 0, 0, 0]), ('ff02::2', 0, 0, card))
            try:
                while True:
                    came = s.recv(1500)
                    if came[0] == 134:
                        print(came[:2].hex(), came[4:].hex())
                        sys.exit()
            except TimeoutError:
                pass
        """;

    // Boot loaders wait long for one; whoever is told of a router without a lifetime does not use it.
    [Fact]
    public void WhoAsksForARouterHearsThatThereIsNone()
    {
        using var network = new WaveNetwork(1);
        using var station = new RunningStation(world, more: $"starters: starters\nboot: {{ mode: full, interface: br0, address: "
            + $"{WaveNetwork.Station}, range: 10.213.80.200-10.213.80.220 }}", host: WaveNetwork.Station, space: network.Space);
        Assert.Equal("8600 000000000000000000000000",
            Tools.Run("ip", ["netns", "exec", network.SpaceOf(1), "python3", "-c", Ask]).Trim());
    }
}

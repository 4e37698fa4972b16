using System.Diagnostics;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Somebody who sends what is not the station's to a group: random datagrams to all ports of waves.</summary>
public sealed class Forger : IDisposable
{
    private const string Script = """
        import os, socket, sys, time
        s = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
        s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, socket.if_nametoindex('e0'))
        while True:
            for port in range(8480, 8490):
                # A version and kind that the protocol knows (RFC 5740, 4.1), and nonsense behind it.
                kind = os.urandom(1)[0] % 6 + 1
                s.sendto(bytes([0x10 | kind, 4]) + os.urandom(1200), (sys.argv[1], port))
            time.sleep(0.005)
        """;

    private readonly Process _process;

    private Forger(Process process) => _process = process;

    /// <summary>Begins.</summary>
    /// <param name="space">The network namespace to send from.</param>
    /// <param name="group">The group's address.</param>
    public static Forger Start(string space, string group) => new(Process.Start(new ProcessStartInfo("ip",
        ["netns", "exec", space, "python3", "-c", Script, group])
    {
        RedirectStandardError = true,
    })!);

    public void Dispose()
    {
        _process.Kill(entireProcessTree: true);
        _process.WaitForExit();
        _process.Dispose();
    }
}

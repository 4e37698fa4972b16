using System.Globalization;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>A network of its own: a switch with the station at it, and a namespace for each machine.</summary>
public sealed class WaveNetwork : IDisposable
{
    /// <summary>The station's addresses.</summary>
    public const string Station = "10.213.80.1", StationBySix = "fd21:3::1";

    private static int s_networks;
    // Several tests have one at the same time.
    private readonly string _name = string.Create(CultureInfo.InvariantCulture,
        $"vmbw{Environment.ProcessId}n{Interlocked.Increment(ref s_networks)}");
    private readonly int _machines;

    /// <summary>The namespace of the station.</summary>
    public string Space => $"{_name}s";

    /// <param name="machines">How many machines there are, numbered from 1.</param>
    public WaveNetwork(int machines)
    {
        _machines = machines;
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to make a network");
        Remove();
        Try("netns", "add", Space);
        Do(Space, "link set lo up");
        Do(Space, "link add br0 type bridge stp_state 0 forward_delay 0 mcast_snooping 0");
        Do(Space, $"addr add {Station}/24 dev br0");
        Do(Space, $"addr add {StationBySix}/64 dev br0 nodad");
        Do(Space, "link set br0 up");
        for (var number = 1; number <= machines; number++)
        {
            Try("netns", "add", SpaceOf(number));
            Do(SpaceOf(number), "link set lo up");
            Do(Space, string.Create(CultureInfo.InvariantCulture, $"link add v{number} type veth peer name e0 netns {SpaceOf(number)}"));
            Do(Space, string.Create(CultureInfo.InvariantCulture, $"link set v{number} master br0 up"));
            Address(number);
        }
    }

    /// <summary>Gives the card of a machine its addresses.</summary>
    public void Address(int number)
    {
        Do(SpaceOf(number), string.Create(CultureInfo.InvariantCulture, $"addr add 10.213.80.{100 + number}/24 dev e0"));
        Do(SpaceOf(number), string.Create(CultureInfo.InvariantCulture, $"addr add fd21:3::{100 + number}/64 dev e0 nodad"));
        Do(SpaceOf(number), "link set e0 up");
    }

    /// <summary>The namespace of a machine.</summary>
    public string SpaceOf(int number) => string.Create(CultureInfo.InvariantCulture, $"{_name}m{number}");

    /// <summary>What a machine does not get of what is sent to it.</summary>
    /// <param name="number">The machine.</param>
    /// <param name="rule">As iptables(8) is told.</param>
    public void Drop(int number, string rule) => Tools.Run("ip", ["netns", "exec", SpaceOf(number), "iptables", "-A", "INPUT",
        .. rule.Split(' '), "-j", "DROP"]);

    /// <summary>Bytes that the station sent.</summary>
    public long Sent() => long.Parse(Tools.Run("ip", ["netns", "exec", Space, "cat", "/sys/class/net/br0/statistics/tx_bytes"]),
        CultureInfo.InvariantCulture);

    private void Do(string space, string arguments) => Try(["-n", space, .. arguments.Split(' ')]);

    private void Try(params string[] arguments)
    {
        var (code, _, error) = Tools.Try("ip", arguments);
        if (code == 0)
            return;
        Remove();
        Assert.Skip($"cannot make a network here: `ip {string.Join(' ', arguments)}`: {error}");
    }

    private void Remove()
    {
        foreach (var space in Enumerable.Range(1, _machines).Select(SpaceOf).Append(Space))
        {
            // Also what was left there that was killed.
            Tools.Try("sh", ["-c", $"ip netns pids {space} 2>/dev/null | xargs -r kill -KILL"]);
            Tools.Try("ip", ["netns", "del", space]);
        }
    }

    public void Dispose() => Remove();
}

using System.Diagnostics;
using System.Text.Json;
using Vembar.Cli.Tests.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>A station beside another DHCP server.</summary>
[Trait("Set", "Slow")]
public sealed class ProxyTests(World world)
{
    private static string Boot(string more) => $"starters: starters\nboot: {{ mode: proxy, interface: br0, address: "
        + $"{WaveNetwork.Station}, {more} }}";

    private const string Machine = "10.213.80.101";

    // The signed GRUB does not say who it is, and the station did not give it its address.
    [Fact]
    public void WhoFetchesAKernelIsKnownAndGetsAnotherStarterWhereThatOneIsSilent()
    {
        using var network = new WaveNetwork(1);
        using var station = new RunningStation(world, more: Boot("signed: yes, report-within: 3 s"), host: WaveNetwork.Station,
            space: network.Space);
        SmallStarters.Make(station);
        // It has joined once, by the starter in use.
        station.Starter = "1";
        station.Join(1);
        var machine = station.WaitFor(1, MachineState.Waiting);
        station.Ok("station", "assign", machine.Id, "--starter", "pilot");
        var space = network.SpaceOf(1);
        Tools.Run("ip", ["-n", space, "link", "set", "e0", "address", machine.Identity.Addresses[0]]);
        (int Code, string Text) Fetch(string path)
        {
            var (code, text, _) = Tools.Try("ip",
                ["netns", "exec", space, "curl", "-s", "-m", "3", $"tftp://{WaveNetwork.Station}/{path}"]);
            return (code, text);
        }
        void Until(Func<bool> isSo)
        {
            var clock = Stopwatch.StartNew();
            while (!isSo())
            {
                Assert.True(clock.Elapsed < station.Patience, Fetch("grub/grub.cfg").Text);
                Thread.Sleep(200);
            }
        }
        string Configuration() => Fetch("grub/grub.cfg").Text;
        Until(() => Configuration().Contains($"\"{machine.Identity.Addresses[0]}\" ]; then set starter=2", StringComparison.Ordinal));
        Until(() => Fetch("starters/2/vmlinuz").Text == "kernel");
        // It does not report with that one.
        Until(() => !Configuration().Contains("set starter=2", StringComparison.Ordinal));
        Until(() => Fetch("starters/1/vmlinuz").Text == "kernel");
        Until(() => station.Ok("station", "log", machine.Id, "--json").Json.EnumerateArray().Any(e =>
            e.GetProperty("text").GetString()!.StartsWith("the starter 2 did not report within", StringComparison.Ordinal)));
    }

    // Whether the other server names the station can be asked before anything starts; where nothing is said, it names itself.
    [Theory]
    [InlineData(WaveNetwork.Station, true)]
    [InlineData("", false)]
    public void TheCheckAsksTheOtherServerWhomItNames(string next, bool isWell)
    {
        using var network = new WaveNetwork(1);
        using var folder = new TempFolder();
        folder.Write("station.yaml", $"listen: '{WaveNetwork.Station}:8470'\ndata: data\n{Boot("signed: yes")}\n");
        var space = network.SpaceOf(1);
        using var server = Process.Start(new ProcessStartInfo("ip", ["netns", "exec", space, "dnsmasq", "--keep-in-foreground", "--port=0",
            "--conf-file=/dev/null", "--interface=e0", "--bind-interfaces", "--dhcp-range=10.213.80.150,10.213.80.160,1h",
            .. next.Length > 0 ? [$"--dhcp-boot=,,{next}"] : Array.Empty<string>(), "--leasefile-ro", "--pid-file=", "--user=root",
            "--log-facility=-"])
        {
            RedirectStandardError = true,
        })!;
        try
        {
            // It is there when it says so.
            while (server.StandardError.ReadLine() is { } line && !line.Contains("sockets bound", StringComparison.Ordinal))
            {
            }
            // A card that was just switched on counts as down for a moment.
            JsonElement? named = null;
            for (var clock = Stopwatch.StartNew(); named is null; Thread.Sleep(200))
            {
                var ran = Vembar.Finish(Vembar.Start(["netns", "exec", network.Space, Vembar.Path, "station", "boot", "check", "--config",
                    folder.At("station.yaml"), "--json"], program: "ip"));
                Assert.True(clock.Elapsed < TimeSpan.FromMinutes(1), ran.Error + ran.Output);
                named = ran.Json.GetProperty("findings").EnumerateArray().Cast<JsonElement?>().FirstOrDefault(f =>
                    f!.Value.GetProperty("what").GetString() == "next server");
            }
            var found = named.Value;
            Assert.Equal(isWell, found.GetProperty("isWell").GetBoolean());
            Assert.Contains(isWell ? $"names {next}" : $"names {Machine}, not ", found.GetProperty("found").GetString(),
                StringComparison.Ordinal);
        }
        finally
        {
            server.Kill(entireProcessTree: true);
            server.WaitForExit();
        }
    }
}

using Vembar.Cli.Tests.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Which starter the station hands to a machine.</summary>
public sealed class StarterChannelTests(World world)
{
    private static string Boot => $"starters: starters\nboot: {{ mode: full, interface: br0, address: {EmulatedNetwork.Station}, "
        + "range: 10.213.79.100-10.213.79.120, arguments: 'console=ttyS0' }";

    // Which starter a machine is handed: what it was assigned, and another one where that does not report.
    [Fact]
    public void AMachineGetsTheStarterOfItsChannelOrTheLastThatReported()
    {
        using var network = new EmulatedNetwork();
        using var station = new RunningStation(world, more: Boot.Replace("arguments:", "report-within: 3 s, pilot-sites: Annex, arguments:",
            StringComparison.Ordinal), host: EmulatedNetwork.Station, space: network.Space);
        SmallStarters.Make(station);
        Assert.Equal(["production", "pilot"], station.Ok("starter", "list", station.At("starters"), "--json").Json.GetProperty("starters")
            .EnumerateArray().Select(s => s.GetProperty("channels")[0].GetString()));
        // The machine has joined once, by the starter in use.
        station.Starter = "1";
        station.Join(1);
        var machine = station.WaitFor(1, MachineState.Waiting);
        string Handed() => Tools.Run("ip", ["netns", "exec", network.Space, "curl", "-s",
            $"http://{EmulatedNetwork.Station}:8471/boot/machine.ipxe?uuid={machine.Identity.Uuid}&mac={machine.Identity.Addresses[0]}"])
            .Split('\n').First(l => l.StartsWith("kernel", StringComparison.Ordinal)).Split("/boot/starters/")[1].Split('/')[0];
        Assert.Equal("1", Handed());
        station.Ok("station", "assign", machine.Id, "--starter", "pilot");
        Assert.Equal("2", Handed());
        // It does not report with that one.
        Thread.Sleep(TimeSpan.FromSeconds(4));
        Assert.Equal("1", Handed());
        Assert.Contains(station.Ok("station", "log", machine.Id, "--json").Json.EnumerateArray(),
            e => e.GetProperty("text").GetString()!.StartsWith("the starter 2 did not report within", StringComparison.Ordinal));
        station.Ok("station", "assign", machine.Id, "--starter", "", "--site", "Library");
        Assert.Equal("1", Handed());
        Assert.Equal(3, station.Run("station", "assign", machine.Id, "--starter", "7").Code);
    }
}

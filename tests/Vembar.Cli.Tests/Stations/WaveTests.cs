using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>An image that many machines get at once.</summary>
[Trait("Set", "Slow")]
public sealed class WaveTests(World world)
{
    private const string Loopback = "waves: { interface: lo, rate: '200 Mbit/s' }\nnames: 'TVL-{number:2}'";

    private static void DemandMulticast() => Assert.SkipUnless(Native.Multicast.MulticastSession.IsThere, "libnorm is not installed");

    private static WaveInfo Wave(RunningStation station, string id) =>
        JsonSerializer.Deserialize(station.Get($"/api/waves/{id}")!, StationJson.Default.WaveInfo)!;

    private static WaveInfo WaitFor(RunningStation station, string id, Func<WaveInfo, bool> isSo)
    {
        var clock = Stopwatch.StartNew();
        while (true)
        {
            var wave = Wave(station, id);
            if (isSo(wave))
                return wave;
            Assert.True(clock.Elapsed < station.Patience, $"the wave is {wave.State}: {wave.Remark} "
                + string.Join("; ", wave.Members.Select(m => $"{m.Name} {m.State} {m.Remark}")));
            Thread.Sleep(100);
        }
    }

    private static string Begin(RunningStation station, params string[] more) =>
        station.Ok(["station", "wave", "Lending desk", "--accept", "no-driver", "--accept", "no-storage-driver", "--json",
            .. more]).Json.GetProperty("id").GetString()!;

    private static void IsWindows(RunningStation station, int number)
    {
        using var found = ResolvedSource.Open(station.Disk(number), null);
        Assert.NotNull(WindowsInstall.FindFolder(found.Source));
    }

    private static void Say(string text) => TestContext.Current.TestOutputHelper?.WriteLine(text);

    [Fact]
    public void MachinesThatWaitForItGetTheImageAtOnce()
    {
        DemandMulticast();
        const int Machines = 4;
        using var station = new RunningStation(world, more: Loopback);
        var id = Begin(station, "--begin", "4 joined");
        Assert.Contains("waits for 4 machines", Wave(station, id).Remark, StringComparison.Ordinal);
        for (var number = 1; number < Machines; number++)
            station.Join(number);
        for (var number = 1; number < Machines; number++)
            Assert.Equal($"waits for wave {id}", station.WaitFor(number, MachineState.Ready).Remark);
        Assert.Equal(WaveState.Waiting, Wave(station, id).State);
        station.Join(Machines);
        var wave = WaitFor(station, id, w => w.State == WaveState.Done);
        Assert.Equal(wave.Bytes, wave.Sent);
        Assert.Equal(Machines, wave.Members.Count);
        foreach (var member in wave.Members)
        {
            Say($"{member.Name}: heard {member.Heard}, asked {member.Asked} of {wave.Bytes}");
            Assert.Equal(MachineState.Done, member.State);
            Assert.True(member.Asked < wave.Bytes / 10, $"{member.Name} asked for {member.Asked} of {wave.Bytes} bytes");
        }
        for (var number = 1; number <= Machines; number++)
            IsWindows(station, number);
    }

    private static string Network(string more = "", string rate = "150 Mbit/s") =>
        $"waves: {{ interface: br0, rate: '{rate}'{more} }}\nnames: 'TVL-{{number:2}}'";

    private RunningStation Station(WaveNetwork network, string more, string host = WaveNetwork.Station) =>
        new(world, more: more, host: host, space: network.Space)
        {
            SpaceOf = network.SpaceOf,
        };

    // A machine that loses datagrams asks for them again, or mends them; one that the group does not reach asks for everything.
    [Fact]
    public void WhatIsLostIsSentAgainAndWhoHearsNothingAsks()
    {
        DemandMulticast();
        const int Machines = 5, Deaf = 5;
        using var network = new WaveNetwork(Machines);
        network.Drop(2, "-p udp -m statistic --mode random --probability 0.01");
        network.Drop(3, "-p udp -m statistic --mode random --probability 0.05");
        network.Drop(4, "-p udp -m statistic --mode random --probability 0.2");
        network.Drop(Deaf, "-d 224.0.0.0/4");
        using var station = Station(network, Network());
        var before = network.Sent();
        var id = Begin(station, "--begin", "5 joined");
        for (var number = 1; number <= Machines; number++)
            station.Join(number);
        var wave = WaitFor(station, id, w => w.State == WaveState.Done);
        foreach (var member in wave.Members)
        {
            Say($"{member.Name}: heard {member.Heard}, asked {member.Asked} of {wave.Bytes}; "
                + string.Join("; ", Events(station, member).Where(e => e.Contains("wave", StringComparison.Ordinal))));
            Assert.Equal(MachineState.Done, member.State);
        }
        Say($"the station sent {network.Sent() - before} bytes: {(network.Sent() - before) / (double)wave.Bytes:0.00} times the image");
        var deaf = wave.Members.Single(m => station.WaitFor(Deaf, _ => true, "").Id == m.Machine);
        Assert.Equal(0, deaf.Heard);
        Assert.True(deaf.Asked >= wave.Bytes, $"{deaf.Asked} of {wave.Bytes}");
        Assert.Contains(Events(station, deaf), e => e.StartsWith("nothing of the wave has come for 8 s", StringComparison.Ordinal));
        // One that loses a fifth may have to ask for much where the machine that runs the tests is busy.
        var hearing = wave.Members.Where(m => m != deaf).ToList();
        Assert.All(hearing, m => Assert.True(m.Heard > 0, $"{m.Name} heard nothing"));
        Assert.True(hearing.Sum(m => m.Heard) > hearing.Count * wave.Bytes / 2,
            $"they heard {hearing.Sum(m => m.Heard)} of {wave.Bytes} each");
        for (var number = 1; number <= Machines; number++)
            IsWindows(station, number);
    }

    // Datagrams that overtake each other or come twice are put in order; nothing of it is asked for because of that.
    [Fact]
    public void WhatComesOutOfOrderOrTwiceIsPutRight()
    {
        DemandMulticast();
        Assert.SkipUnless(File.Exists("/dev/net/tun"), "needs a card that a program is behind");
        using var network = new WaveNetwork(2);
        using var scrambler = Scrambler.Start(network, 1);
        using var station = Station(network, Network(rate: "60 Mbit/s"));
        var id = Begin(station, "--begin", "2 joined");
        station.Join(1);
        station.Join(2);
        var wave = WaitFor(station, id, w => w.State == WaveState.Done);
        var (late, twice) = scrambler.Stop();
        Say($"{late} frames came late, {twice} twice");
        Assert.True(late > 1_000 && twice > 500, $"{late}, {twice}");
        foreach (var member in wave.Members)
        {
            Say($"{member.Name}: heard {member.Heard}, asked {member.Asked} of {wave.Bytes}");
            Assert.Equal(MachineState.Done, member.State);
            Assert.True(member.Heard > wave.Bytes / 2, $"{member.Name} heard {member.Heard} of {wave.Bytes}");
        }
        IsWindows(station, 1);
        IsWindows(station, 2);
    }

    private static List<string> Events(RunningStation station, WaveMember member) =>
        [.. station.Ok("station", "log", member.Machine, "--json").Json.EnumerateArray().Select(e => e.GetProperty("text").GetString()!)];

    // One comes when much was sent, one is switched off and on again, and the station is ended in the middle.
    [Fact]
    public void LateMachinesAndAStationThatIsStartedAnew()
    {
        DemandMulticast();
        using var network = new WaveNetwork(3);
        using var station = Station(network, Network(rate: "8 Mbit/s"));
        var id = Begin(station, "--begin", "2 joined");
        var first = station.Join(1);
        station.Join(2);
        WaitFor(station, id, w => w.Sent > w.Bytes / 4);
        station.WaitForNote(1, first);
        first.Kill(entireProcessTree: true);
        first.WaitForExit();
        station.Join(1);
        station.Join(3);
        WaitFor(station, id, w => w.Sent > w.Bytes / 2);
        station.Kill();
        station.Start();
        var wave = WaitFor(station, id, w => w.State == WaveState.Done);
        Assert.Equal(3, wave.Members.Count);
        foreach (var member in wave.Members)
        {
            Say($"{member.Name}: heard {member.Heard}, asked {member.Asked} of {wave.Bytes}: "
                + string.Join("; ", Events(station, member)));
            Assert.Equal(MachineState.Done, member.State);
        }
        // Whoever is slow to come again may find it over, and asks for everything.
        Assert.Contains(wave.Members, m => m.Heard > 0);
        for (var number = 1; number <= 3; number++)
            IsWindows(station, number);
    }

    // Two images at once, by IPv6; somebody else sends to the group; a third wave is stopped before it begins.
    [Fact]
    public void TwoWavesAtOnceBySixAndSomebodyElseWhoSends()
    {
        DemandMulticast();
        using var network = new WaveNetwork(4);
        using var station = Station(network, Network(", group: 'ff15::5646'", "60 Mbit/s"), $"[{WaveNetwork.StationBySix}]");
        for (var number = 1; number <= 4; number++)
            station.Join(number);
        for (var number = 1; number <= 4; number++)
            station.WaitFor(number, MachineState.Waiting);
        var third = station.Ok("station", "wave", "Lending desk", "--machines", $"{Serial(1)}", "--begin", "2 joined", "--accept",
            "no-driver",
            "--accept", "no-storage-driver", "--json").Json.GetProperty("id").GetString()!;
        station.WaitFor(1, MachineState.Ready);
        Assert.Equal(3, station.Run("station", "wave", "Lending desk").Code);
        station.Ok("station", "wave", "stop", third);
        Assert.Equal(WaveState.Stopped, Wave(station, third).State);
        Assert.Contains("was stopped", station.WaitFor(1, MachineState.Waiting).Remark, StringComparison.Ordinal);
        using var forger = Forger.Start(network.SpaceOf(4), "ff15::5646");
        string[] accepted = ["--accept", "no-driver", "--accept", "no-storage-driver", "--json"];
        var one = station.Ok(["station", "wave", "Lending desk", "--machines", $"{Serial(1)},{Serial(2)}", "--begin", "2 joined",
            .. accepted])
            .Json.GetProperty("id").GetString()!;
        var two = station.Ok(["station", "wave", "2", "--machines", $"{Serial(3)},{Serial(4)}", "--begin", "2 joined", .. accepted])
            .Json.GetProperty("id").GetString()!;
        foreach (var id in (string[])[one, two])
        {
            var wave = WaitFor(station, id, w => w.State == WaveState.Done);
            Assert.Equal(2, wave.Members.Count);
            foreach (var member in wave.Members)
            {
                Say($"{wave.Title}: {member.Name}: heard {member.Heard}, asked {member.Asked} of {wave.Bytes}; "
                    + string.Join("; ", Events(station, member).Where(e => e.Contains("wave", StringComparison.Ordinal))));
                Assert.Equal(MachineState.Done, member.State);
                Assert.True(member.Heard > wave.Bytes / 2, $"{member.Name} heard {member.Heard}");
            }
        }
        for (var number = 1; number <= 4; number++)
            IsWindows(station, number);
        Assert.Equal(4, station.Ok("station", "wave", "status", "--json").Json.GetArrayLength() + 1);
    }

    private static string Serial(int number) => RunningStation.Serial(number);

    [Fact]
    public void WhatMakesNoSenseIsSaid()
    {
        DemandMulticast();
        using var station = new RunningStation(world, more: Loopback);
        Assert.Equal(2, station.Run("station", "wave").Code);
        Assert.Equal(2, station.Run("station", "wave", "Lending desk", "--begin", "soon").Code);
        Assert.Equal(2, station.Run("station", "wave", "Lending desk", "--rate", "fast").Code);
        Assert.Equal(3, station.Run("station", "wave", "Nothing").Code);
        Assert.Equal(3, station.Run("station", "wave", "Lending desk", "--machines", "nobody").Code);
        Assert.Equal(3, station.Run("station", "wave", "status", "7").Code);
        Assert.Equal(3, station.Run("station", "wave", "stop", "7").Code);
        Assert.Contains("No wave", station.Ok("station", "wave", "status").Output, StringComparison.Ordinal);
    }
}

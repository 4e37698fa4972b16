using System.Globalization;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Archives at a station, and stations of branches that read through another.</summary>
public sealed class StationArchiveTests(World world, PostgresServer postgres) : StationTest(world, postgres)
{
    [Fact]
    public void AnArchiveAtAStationIsAPlace()
    {
        using var station = Begin("sqlite");
        using var local = new TempFolder();
        var same = World.CopyArchive(local);
        Assert.Equal(Vembar.Run("list", same, "--json").Json.GetProperty("images").GetRawText(),
            station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetRawText());
        station.Ok("capture", World.At("references/bookmobile"), station.Archive, "--name", "Bookmobile", "--version", "2026.09");
        station.Ok("mark", station.Archive + "#Bookmobile", "--channel", "pilot");
        station.Ok("service", station.Archive + "#Bookmobile@pilot", "--put", $"{Vembar.Repository}/LICENSE=Windows/Web/licence.txt",
            "--as",
            "Bookmobile, with its licence");
        station.Ok("retitle", station.Archive + "#last", "--note", "for a test");
        station.Ok("drop", station.Archive + "#1", "--confirm");
        station.Ok("compact", station.Archive, "--confirm");
        station.Ok("copy", World.Archive + "#1", $"{station.Address}/archives/fresh");
        foreach (var file in (string[])["desks.vmb", "fresh.vmb"])
        {
            var verified = Vembar.Run("verify", station.At(file), "--json").Json;
            Assert.True(verified.GetProperty("ok").GetBoolean());
        }
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());
        // Who may only look changes nothing.
        var viewer = station.Ok("station", "token", "add", "viewer", "--role", "viewer", "--json").Json.GetProperty("secret").GetString()!;
        Assert.Equal(0, station.RunAs(viewer, "list", station.Archive).Code);
        Assert.Equal(3, station.RunAs(viewer, "mark", station.Archive + "#2", "--channel", "pilot").Code);
        Assert.Equal(5, station.RunAs("vst_nobody", "list", station.Archive).Code);
        Assert.Equal(3, station.Run("list", $"{station.Address}/archives/nothing").Code);
        Assert.Empty(Directory.EnumerateDirectories(station.At("data/uploads")));
    }

    [Fact]
    public async Task TwoWhoAddAtOnceDoNotLoseAnything()
    {
        using var station = Begin("sqlite");
        var runs = await Task.WhenAll(Enumerable.Range(0, 4).Select(i => Task.Run(() =>
            station.Run("retitle", station.Archive + "#1", "--note", $"{i}"))));
        Assert.Contains(runs, r => r.Code == 0);
        Assert.All(runs, r => Assert.Contains(r.Code, (int[])[0, 5]));
        var states = station.Ok("history", station.Archive, "--json").Json.GetProperty("states").GetArrayLength();
        Assert.Equal(Vembar.Run("history", World.Archive, "--json").Json.GetProperty("states").GetArrayLength()
            + runs.Count(r => r.Code == 0), states);
        Assert.Equal(0, Vembar.Run("verify", station.At("desks.vmb")).Code);
    }

    [Fact]
    public void AReferenceIsCapturedFromWhereItStands()
    {
        using var station = Begin("sqlite");
        File.Copy(World.At("disks/lending-desk.vhdx"), station.At("reference.vhdx"));
        var machine = station.Join(8, Desk, station.At("reference.vhdx"));
        station.WaitFor(8, MachineState.Waiting);
        station.Ok("station", "capture", RunningStation.Serial(8), "--name", "Lending desk, from the machine");
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        // It is there already, all but what says so.
        Assert.True(ran.Json.GetProperty("result").GetProperty("bytesStored").GetInt64() < 400_000);
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());

        Tools.Run("qemu-img", ["convert", "-O", "qcow2", World.At("spoiled/not-generalized.qcow2"), station.At("unready.qcow2")]);
        var unready = station.Join(18, Desk, station.At("unready.qcow2"));
        station.WaitFor(18, MachineState.Waiting);
        station.Ok("station", "capture", RunningStation.Serial(18), "--name", "Unready");
        Assert.Equal(1, RunningStation.Finish(unready).Code);
        Assert.Contains("not", station.WaitFor(18, MachineState.Failed).Remark, StringComparison.Ordinal);
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());
    }

    [Fact]
    [Trait("Set", "Slow")]
    public async Task ABranchFetchesWhatItReadsOnce()
    {
        using var central = Begin("sqlite");
        using var branch = new RunningStation(World, central: central);
        using var client = Raw(central, null);
        async Task<long> Sent()
        {
            var line = (await client.GetStringAsync("/metrics")).Split('\n').First(l => l.StartsWith("station_archive_bytes_total ",
                StringComparison.Ordinal) || l.StartsWith("station_archive_bytes ", StringComparison.Ordinal));
            return (long)double.Parse(line.Split(' ')[1], CultureInfo.InvariantCulture);
        }
        var before = await Sent();
        foreach (var number in (int[])[1, 2])
        {
            var machine = branch.Join(number, Desk);
            branch.WaitFor(number, MachineState.Waiting);
            branch.Ok(Approve(number, $"TVL-{number}"));
            var ran = RunningStation.Finish(machine);
            Assert.True(ran.Code == 0, ran.Error + ran.Output);
        }
        // Two machines, and the archive crossed the line about once.
        Assert.InRange(await Sent() - before, 1, new FileInfo(central.At("desks.vmb")).Length * 3 / 2);
        // Nothing is added to it there.
        Assert.Equal(3, branch.Run("mark", branch.Archive + "#1", "--channel", "pilot").Code);
        // What is added at the centre is there after a moment.
        central.Ok("retitle", central.Archive + "#1", "--note", "new");
        for (var tries = 0; tries < 100 && branch.Ok("show", branch.Archive + "#1", "--json").Json.GetProperty("image").GetProperty("note")
            .GetString() != "new"; tries++)
            await Task.Delay(100);
        Assert.Equal("new", branch.Ok("show", branch.Archive + "#1", "--json").Json.GetProperty("image").GetProperty("note").GetString());
        // When the line is down, what was fetched is there.
        central.Kill();
        await Task.Delay(TimeSpan.FromSeconds(6));
        branch.Ok("deploy", branch.Archive + "#1", branch.At("while-the-line-is-down"), "--verify");
        central.Start();
    }
}

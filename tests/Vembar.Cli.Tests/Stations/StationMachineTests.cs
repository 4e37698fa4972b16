using System.Net;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Machines and stations that are powered off, stopped, started again.</summary>
public sealed class StationMachineTests(World world, PostgresServer postgres) : StationTest(world, postgres)
{
    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres", Traits = ["Set", "Slow"])]
    public void AStationThatIsKilledAndStartedAgainGoesOn(string database)
    {
        using var station = Begin(database);
        var machine = station.Join(5, Desk);
        station.WaitFor(5, MachineState.Waiting);
        station.Kill();
        station.Start();
        station.WaitFor(5, MachineState.Waiting);
        station.Ok(Approve(5, "TVL-DESK-005"));
        // At whatever moment that is.
        station.Kill();
        station.Start();
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.Equal(MachineState.Done, station.WaitFor(5, MachineState.Done).State);
        var events = station.Ok("station", "log", "TVL-DESK-005", "--json").Json.EnumerateArray().Select(e => e.GetProperty("kind")
            .GetString()).ToList();
        Assert.Single(events, "began");
        Assert.Single(events, "done");
    }

    [Fact]
    public void AMachineThatWasSwitchedOffGoesOnWhereItWas()
    {
        using var station = Begin("sqlite");
        var first = station.Join(6, Desk);
        station.WaitFor(6, MachineState.Waiting);
        station.Ok(Approve(6, "TVL-DESK-006"));
        // Its disk says whose it is as soon as it is divided.
        station.WaitForNote(6, first);
        if (!first.HasExited)
            first.Kill(entireProcessTree: true);
        first.WaitForExit();
        var second = RunningStation.Finish(station.Join(6, Desk));
        Assert.True(second.Code == 0, second.Error + second.Output);
        station.WaitFor(6, MachineState.Done);
        Assert.Contains("joined again and goes on", station.Ok("station", "log", "TVL-DESK-006").Output, StringComparison.Ordinal);
    }

    [Fact]
    public void WhatIsStoppedIsStopped()
    {
        using var station = Begin("sqlite");
        var machine = station.Join(7, Desk);
        station.WaitFor(7, MachineState.Waiting);
        Assert.Equal(3, station.Run("station", "stop", RunningStation.Serial(7)).Code);
        machine.Kill(entireProcessTree: true);
        machine.WaitForExit();
        station.Ok(Approve(7, "TVL-7"));
        station.Ok("station", "stop", "TVL-7");
        Assert.Equal("stopped", One(station, 7).GetProperty("machine").GetProperty("state").GetString());
        Assert.Equal(3, station.Run("station", "retry", "TVL-7").Code);
        Assert.Equal(3, station.Run("station", "approve", "nobody", "--name", "X1", "--image", Image).Code);
        Assert.Equal(2, station.Run("station", "approve", RunningStation.Serial(7), "--name", "a-name-that-is-too-long").Code);
        Assert.Equal(3, station.Run("station", "approve", RunningStation.Serial(7), "--name", "TVL-7", "--image", "Nothing@pilot").Code);
        station.Ok("station", "assign", RunningStation.Serial(7), "--name", "TVL-7", "--site", "Staithe");
        station.Ok("station", "forget", "TVL-7");
        Assert.Equal(3, station.Run("station", "log", "TVL-7").Code);
    }

    [Fact]
    public async Task WhoWaitsForTheirDiskToBeWrittenMayBeStopped()
    {
        using var station = Begin("sqlite");
        using var people = station.Client();
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        await Task.Run(() => station.WaitForNote(1, machine));
        // Without starting the program: the machine would be through.
        using var person = Raw(station, station.Token);
        using var stopped = await person.PostAsync($"/api/machines/{RunningStation.Serial(1)}/stop", null);
        var ran = RunningStation.Finish(machine);
        // Nothing is kept on the disk that was for this task alone.
        Assert.False(station.HasNote(1));
        if (!stopped.IsSuccessStatusCode)
        {
            Assert.Equal((HttpStatusCode.Conflict, 0), (stopped.StatusCode, ran.Code));
            return;
        }
        Assert.Equal(MachineState.Stopped, station.WaitFor(1, MachineState.Stopped).State);
        // It may have been through before it heard of it.
        Assert.True(ran.Code == 0 || (ran.Error + ran.Output).Contains("stopped at the station", StringComparison.Ordinal), ran.Error);
    }

    [Fact]
    [Trait("Set", "Slow")]
    public async Task OneStationTakesOverFromAnother()
    {
        var database = Postgres.Database();
        using var first = new RunningStation(World, database);
        using var second = new RunningStation(World, database, "", first);
        var machines = Enumerable.Range(1, 4).Select(n => first.Join(n, Desk)).ToList();
        foreach (var number in Enumerable.Range(1, 4))
        {
            second.WaitFor(number, MachineState.Waiting);
            second.Ok(Approve(number, $"TVL-{number}"));
        }
        first.Kill();
        foreach (var machine in machines)
        {
            var ran = await Task.Run(() => RunningStation.Finish(machine));
            Assert.True(ran.Code == 0, ran.Error + ran.Output);
        }
        foreach (var number in Enumerable.Range(1, 4))
            second.WaitFor(number, MachineState.Done);
    }

    [Fact]
    public async Task ADatabaseThatIsAwayForAWhileIsWaitedFor()
    {
        using var own = new PostgresServer();
        using var station = new RunningStation(World, own.Database());
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        own.Stop();
        using (var client = Raw(station, station.Token))
        {
            Assert.Equal(HttpStatusCode.ServiceUnavailable, (await client.GetAsync("/health/ready")).StatusCode);
            Assert.Equal(HttpStatusCode.OK, (await client.GetAsync("/health/live")).StatusCode);
            Assert.Equal("database-away", (await ProblemOf(await client.GetAsync("/api/machines"))).Code);
        }
        own.Start();
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        Assert.Equal(0, RunningStation.Finish(machine).Code);
    }

    [Fact]
    public void OverIpv6Alone()
    {
        using var station = new RunningStation(World, host: "[::1]");
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        Assert.Equal(0, RunningStation.Finish(machine).Code);
        station.Ok("list", station.Archive);
    }

    [Fact]
    public void MachinesAreSwitchedOnByTheirSitesCommand()
    {
        using var station = new RunningStation(World, more: """
            power:
              Library: { command: [ /bin/sh, -c, 'echo "$0 $1" > switched', '{name}', '{address}' ] }
              Annex: { command: [ /bin/sh, -c, 'echo no such board >&2; exit 3' ] }
              '*': { command: [ /bin/sleep, '60' ], limit: 1 s }
            """);
        var list = station.At("list.csv");
        File.WriteAllText(list,
            "identifier,name,site\n00:11:22:33:44:55,TVL-1,Library\nSN-2,TVL-2,Annex\nSN-3,TVL-3,Quay\n--help,TVL-4,Library\n");
        station.Ok("station", "import", list);
        station.Ok("station", "wake", "TVL-1");
        Assert.Equal("TVL-1 00:11:22:33:44:55\n", File.ReadAllText(station.At("switched")));
        var failed = station.Run("station", "wake", "TVL-2");
        Assert.Equal(3, failed.Code);
        Assert.Contains("ended with 3: no such board", failed.Error, StringComparison.Ordinal);
        Assert.Contains("did not end within 1 s", station.Run("station", "wake", "TVL-3").Error, StringComparison.Ordinal);
        // Of this one no network address is known, which the command wants.
        Assert.Contains("has no address", station.Run("station", "wake", "TVL-4").Error, StringComparison.Ordinal);
    }
}

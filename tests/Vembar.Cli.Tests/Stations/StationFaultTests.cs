using System.Net.Http.Headers;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>What goes wrong around a station.</summary>
public sealed class StationFaultTests(World world)
{
    [Fact]
    public void AStationWithoutRoomLosesNothing()
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to mount a small file system");
        using var folder = new TempFolder();
        var small = folder.At("small");
        Directory.CreateDirectory(small);
        var (code, _, error) = Tools.Try("mount", ["-t", "tmpfs", "-o", "size=6M", "tmpfs", small]);
        Assert.SkipUnless(code == 0, $"cannot mount here: {error}");
        try
        {
            using var station = new RunningStation(world, data: small);
            string[] capture = ["capture", world.At("references/bookmobile"), $"{station.Address}/archives/fresh", "--name", "Bookmobile"];
            var refused = station.Run([.. capture, "--json"]);
            Assert.Equal(5, refused.Code);
            Assert.Equal("no-room", refused.JsonError.GetProperty("code").GetString());
            Assert.False(File.Exists(station.At("fresh.vmb")));
            // The station goes on with whatever needs no room; and with that, when there is some again.
            station.Ok("list", station.Archive);
            Tools.Run("mount", ["-o", "remount,size=200M", small]);
            station.Ok(capture);
            Assert.True(Vembar.Run("verify", station.At("fresh.vmb"), "--json").Json.GetProperty("ok").GetBoolean());
        }
        finally
        {
            Tools.Run("umount", ["-l", small]);
        }
    }

    [Fact]
    public async Task WhoReadsSlowlyKeepsNobodyWaiting()
    {
        using var station = new RunningStation(world);
        using var handler = new HttpClientHandler
        {
            ServerCertificateCustomValidationCallback = HttpClientHandler.DangerousAcceptAnyServerCertificateValidator,
            MaxConnectionsPerServer = 100,
        };
        using var client = new HttpClient(handler);
        client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", station.Token);
        var slow = new List<HttpResponseMessage>();
        for (var reader = 0; reader < 60; reader++)
        {
            // Whole archives are asked for, and not read.
            var answer = await client.GetAsync(station.Archive, HttpCompletionOption.ResponseHeadersRead);
            Assert.True(answer.IsSuccessStatusCode);
            slow.Add(answer);
        }
        var machine = station.Join(1, "oakmere-m4");
        station.WaitFor(1, MachineState.Waiting);
        station.Ok("station", "approve", RunningStation.Serial(1), "--name", "TVL-1", "--image", "Lending desk", "--accept", "no-driver",
            "--accept", "no-storage-driver");
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        slow.ForEach(s => s.Dispose());
    }

    // A board whose battery is empty, or one that somebody set to local time.
    [Theory]
    [InlineData("-1d")]
    [InlineData("+1d")]
    public void AMachineWhoseClockIsOffIsServed(string offset)
    {
        using var station = new RunningStation(world);
        var machine = station.JoinAtAnotherTime(1, "oakmere-m4", offset);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok("station", "approve", RunningStation.Serial(1), "--name", "TVL-1", "--image", "Lending desk", "--accept", "no-driver",
            "--accept", "no-storage-driver");
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        // What happened is told by the station's clock.
        var events = JsonDocument.Parse(station.Ok("station", "log", "TVL-1", "--json").Output).RootElement.EnumerateArray()
            .Select(e => e.GetProperty("time").GetDateTime()).ToList();
        Assert.All(events, e => Assert.InRange(e, DateTime.UtcNow.AddHours(-1), DateTime.UtcNow.AddHours(1)));
    }
}

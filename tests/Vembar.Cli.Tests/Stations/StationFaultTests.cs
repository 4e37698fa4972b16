using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>What goes wrong around a station.</summary>
[Trait("Set", "Slow")]
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

    // Nothing is there, or less than a program that formats needs: it is said of the RAM disk, and the machine's disk is as it was.
    [Theory]
    [InlineData("64k")]
    [InlineData("1200k")]
    public void AMachineWhoseRamDiskIsFullSaysSo(string size)
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to mount a small file system");
        using var folder = new TempFolder();
        var full = folder.At("full");
        Directory.CreateDirectory(full);
        var (code, _, error) = Tools.Try("mount", ["-t", "tmpfs", "-o", $"size={size}", "tmpfs", full]);
        Assert.SkipUnless(code == 0, $"cannot mount here: {error}");
        try
        {
            Tools.Try("dd", ["if=/dev/zero", $"of={full}/all", "bs=4k", "count=16"]);
            using var station = new RunningStation(world) { RamDisk = full };
            Ran Approved(Process machine)
            {
                station.WaitFor(1, m => m.State is MachineState.Waiting or MachineState.Failed, "there");
                station.Ok("station", "approve", RunningStation.Serial(1), "--name", "TVL-1", "--image", "Lending desk", "--accept",
                    "no-driver", "--accept", "no-storage-driver");
                return RunningStation.Finish(machine);
            }
            var failed = Approved(station.Join(1, "oakmere-m4"));
            Assert.Equal(1, failed.Code);
            Assert.Equal("no-room", failed.Json.GetProperty("code").GetString());
            Assert.Contains($"in '{full}'", failed.Json.GetProperty("problem").GetString(), StringComparison.Ordinal);
            Assert.Contains(full, station.WaitFor(1, MachineState.Failed).Remark, StringComparison.Ordinal);
            using (var disk = File.OpenRead(station.Disk(1)))
            {
                var first = new byte[1 << 20];
                disk.ReadExactly(first);
                Assert.All(first, b => Assert.Equal(0, b));
            }
            // With room again it goes as it should; and nothing is left there.
            Tools.Run("mount", ["-o", "remount,size=200M", full]);
            var ran = Approved(station.Join(1, "oakmere-m4"));
            Assert.True(ran.Code == 0, ran.Error + ran.Output);
            station.WaitFor(1, MachineState.Done);
            Assert.DoesNotContain(Directory.EnumerateFileSystemEntries(full), f => Path.GetFileName(f).StartsWith("vembar-",
                StringComparison.Ordinal));
        }
        finally
        {
            Tools.Run("umount", ["-l", full]);
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

using System.Diagnostics;
using System.Text.Json;
using Vembar.Demo;
using Vembar.Images.Paths;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Machines whose users have files on the disk that gets a new image.</summary>
public sealed class UserFileTests(World world)
{
    private const string Desk = "oakmere-m4", Name = "TVL-DESK-001";

    private static string[] Approve(params string[] more) =>
        ["station", "approve", RunningStation.Serial(1), "--name", Name, "--image", "Lending desk", "--accept", "no-driver", "--accept",
            "no-storage-driver", .. more];

    private static void Used(string disk) => OldDesk.Make(disk, DiskFormat.Raw, CancellationToken.None);

    private static JsonElement One(RunningStation station) =>
        station.Ok("station", "machines", RunningStation.Serial(1), "--json").Json;

    // What is on a disk of Windows now, by paths.
    private static void Look(string disk, Action<ResolvedSource, RegistryHive> look)
    {
        using var found = ResolvedSource.Open(disk, null);
        look(found, WindowsInstall.OpenHive(found.Source, "Windows", "SOFTWARE"));
    }

    private static void DemandBack(string disk) => Look(disk, (found, software) =>
    {
        Assert.True(found.Source.Exists(WindowsPath.Parse("Program Files/Tarn Valley")));
        Assert.True(found.Source.Exists(WindowsPath.Parse("Users/anna/Documents/Story hour/Plans for spring.txt")));
        Assert.True(found.Source.Exists(WindowsPath.Parse("Users/ben/Valley Cloud/Documents/Rota 3.txt")));
        Assert.True(found.Source.Exists(WindowsPath.Parse("Users/Public/Documents/From the old install/reader/Documents/Family tree.txt")));
        Assert.Equal(@"%SystemDrive%\Users\anna", software.Key(@"Microsoft\Windows NT\CurrentVersion\ProfileList\"
            + "S-1-5-21-1004336348-1177238915-682003330-1105")!.GetString("ProfileImagePath"));
    });

    [Fact]
    public async Task WhatUsersMadeIsThereAfterwards()
    {
        using var station = new RunningStation(world, more: "user-files: keep");
        Used(station.Disk(1));
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve());
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        DemandBack(station.Disk(1));
        var laid = ran.Json.GetProperty("result").GetProperty("userFiles").EnumerateArray()
            .ToDictionary(u => u.GetProperty("account").GetString()!);
        Assert.Equal(["anna", "ben", "reader"], laid.Keys.Order());
        Assert.True(laid["anna"].GetProperty("isProfile").GetBoolean());
        Assert.False(laid["reader"].GetProperty("isProfile").GetBoolean());
        Assert.Contains("User files of anna", station.Ok("station", "machines", Name).Output, StringComparison.Ordinal);
        Assert.Contains("are at the station", station.Ok("station", "log", Name).Output, StringComparison.Ordinal);

        // They stay at the station, for administrators alone.
        var id = One(station).GetProperty("machine").GetProperty("id").GetString();
        var kept = $"{station.Address}/archives/kept-{id}";
        var image = Assert.Single(station.Ok("userdata", "list", kept, "--json").Json.GetProperty("images").EnumerateArray());
        Assert.Equal(Name, image.GetProperty("name").GetString());
        var technician = station.Ok("station", "token", "add", "front desk", "--role", "technician", "--json").Json
            .GetProperty("secret").GetString()!;
        Assert.Equal("role-too-low",
            station.RunAs(technician, "userdata", "list", kept, "--json").JsonError.GetProperty("code").GetString());
        // Nor for another machine.
        using (var anyone = station.Client("none"))
        {
            var other = await anyone.JoinAsync(new JoinRequest(new MachineReport
            {
                Identity = new MachineIdentity { Serial = RunningStation.Serial(2) },
                Disks = [new ReportedDisk("/dev/sda", 64L << 30, "", [])],
            }, null), CancellationToken.None);
            Assert.Equal("not-for-this-machine", station.RunAs(other.Key, "userdata", "list", kept, "--json").JsonError.GetProperty("code")
                .GetString());
        }
        // They are nothing to deploy or to capture into: whoever may do that would have another machine read them.
        Assert.Equal("no-such-archive", station.RunAs(technician, "station", "approve", Name, "--image", $"kept-{id}#1", "--json")
            .JsonError.GetProperty("code").GetString());
        Assert.Equal("no-such-archive", station.Run("station", "capture", Name, "--name", "x", "--archive", $"kept-{id}", "--json")
            .JsonError.GetProperty("code").GetString());
        foreach (var other in (string[])["kept-..%2fdesks", "kept-0000000a", "kept-"])
            Assert.Equal("no-such-archive", station.Run("list", $"{station.Address}/archives/{other}", "--json").JsonError
                .GetProperty("code").GetString());
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void NothingIsErasedWhereTheyCannotBeKept()
    {
        using var station = new RunningStation(world);
        Used(station.Disk(1));
        // It was shut down for a fast start.
        WindowsVolume.Put(station.Disk(1), "", "hiberfil.sys", "HIBR");
        string Hash() => Tools.Run("b3sum", [station.Disk(1)]);
        var before = Hash();
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        Assert.Equal(2, station.Run(Approve("--user-files", "perhaps")).Code);
        station.Ok(Approve("--user-files", "keep"));
        var ran = RunningStation.Finish(machine);
        Assert.Equal("user-files-not-kept", ran.Json.GetProperty("code").GetString());
        Assert.Equal(before, Hash());
        Assert.Equal("failed", One(station).GetProperty("machine").GetProperty("state").GetString());
    }

    [Fact]
    public void AnEmptyDiskHasNone()
    {
        using var station = new RunningStation(world);
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok("station", "assign", RunningStation.Serial(1), "--user-files", "keep");
        station.Ok(Approve());
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.Contains("no user files to keep", station.Ok("station", "log", Name).Output, StringComparison.Ordinal);
    }

    // A machine that has kept what its users made, and whose disk is divided.
    private static Process BeginWithFilesKept(RunningStation station)
    {
        Used(station.Disk(1));
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve("--user-files", "keep"));
        station.WaitForNote(1, machine);
        return machine;
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void WhatIsKeptComesBackAfterAPowerCut()
    {
        using var station = new RunningStation(world);
        var first = BeginWithFilesKept(station);
        if (!first.HasExited)
            first.Kill(entireProcessTree: true);
        first.WaitForExit();
        var second = RunningStation.Finish(station.Join(1, Desk));
        Assert.True(second.Code == 0, second.Error + second.Output);
        DemandBack(station.Disk(1));
    }

    // While the image is written, and when all of it is: the note says another thing then.
    [Theory]
    [Trait("Set", "Slow")]
    [InlineData(false)]
    [InlineData(true)]
    public void WhatIsKeptComesBackWhenTheStationGoesMeanwhile(bool isWritten)
    {
        using var station = new RunningStation(world);
        var machine = BeginWithFilesKept(station);
        for (var tries = 0; isWritten && tries < 20_000 && !machine.HasExited && !IsWritten(station.Disk(1)); tries++)
            Thread.Sleep(1);
        station.Kill();
        Thread.Sleep(TimeSpan.FromSeconds(3));
        station.Start();
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        DemandBack(station.Disk(1));
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void WhatNeverCameBackComesBesideWhatIsNewer()
    {
        using var station = new RunningStation(world);
        var first = BeginWithFilesKept(station);
        if (!IsStopped(station, first))
            return;
        // Somebody put another install on it meanwhile, and people worked with that.
        File.Delete(station.Disk(1));
        Used(station.Disk(1));
        WindowsVolume.Put(station.Disk(1), "Users/anna/Desktop", "Newer.txt", "newer");
        var again = station.Join(1, Desk);
        station.Ok(Approve());
        var ran = RunningStation.Finish(again);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        DemandBack(station.Disk(1));
        Look(station.Disk(1), (found, _) =>
        {
            Assert.True(found.Source.Exists(WindowsPath.Parse("Users/anna/Desktop/Newer.txt")));
            Assert.True(found.Source.Exists(WindowsPath.Parse("Users/anna/Documents/From the old install/Desktop/To do.txt")));
        });
    }

    // It may have ended before.
    private static bool IsStopped(RunningStation station, Process machine)
    {
        station.Run("station", "stop", Name);
        return RunningStation.Finish(machine).Json.GetProperty("code").GetString() == "stopped";
    }

    private static bool IsWritten(string disk)
    {
        using var image = DiskImage.Open(disk);
        using var device = image.OpenDevice();
        return DiskNote.Read(device) is { Key: "" };
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void ARetryAfterTheDiskWasErasedBringsThemBack()
    {
        using var station = new RunningStation(world);
        var first = BeginWithFilesKept(station);
        // Stopped at the station: the disk is left as one that holds nothing.
        var stopped = IsStopped(station, first);
        var again = station.Join(1, Desk);
        station.Ok(Approve("--accept", "already-done"));
        var ran = RunningStation.Finish(again);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        DemandBack(station.Disk(1));
        if (stopped)
            Assert.Contains("are at the station already", station.Ok("station", "log", Name).Output, StringComparison.Ordinal);
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void AListSaysItForEachMachine()
    {
        using var station = new RunningStation(world);
        File.WriteAllText(station.At("machines.csv"), $"identifier,name,user-files\r\n{RunningStation.Serial(1)},{Name},keep\r\n");
        station.Ok("station", "import", station.At("machines.csv"));
        Assert.Equal("keep", One(station).GetProperty("machine").GetProperty("assignment").GetProperty("userFiles").GetString());
        Assert.Contains("keep", station.Ok("station", "export").Output, StringComparison.Ordinal);
        File.WriteAllText(station.At("machines.csv"), $"identifier,name,user-files\r\n{RunningStation.Serial(1)},{Name},often\r\n");
        Assert.Equal(2, station.Run("station", "import", station.At("machines.csv")).Code);
    }
}

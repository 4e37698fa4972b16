using System.Diagnostics;
using Vembar.Cli.Tests.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Machines under software emulation start from the network by a station, and get their image: last of all tests, as they take
/// longest.</summary>
public sealed class EmulatedMachineTests(World world)
{
    private static string Boot => $"starters: starters\nboot: {{ mode: full, interface: br0, address: {EmulatedNetwork.Station}, "
        + "range: 10.213.79.100-10.213.79.120, arguments: 'console=ttyS0' }";

    // A stick that carries an image: somebody at the machine says its name, and that the disk may be erased; there is no network.
    [Fact]
    public void AStickWritesWhatItCarries()
    {
        Assert.SkipWhen(File.Exists(Path.Combine(Vembar.Repository, "out/vembar.dll")), "a starter needs the program built ahead of time");
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
        using var folder = new TempFolder();
        Ran Run(params string[] arguments)
        {
            var ran = Vembar.Finish(Vembar.Start(arguments));
            Assert.True(ran.Code == 0, ran.Error);
            return ran;
        }
        Run("starter", "make", folder.At("starter"), "--version", "1");
        Run("starter", "image", folder.At("starter"), folder.At("stick.img"), "--with", $"{world.Archive}#Lending desk", "--arguments",
            "console=ttyS0");
        var disk = folder.At("disk.img");
        using (var file = File.Create(disk))
            file.SetLength(3L << 30);
        using var machine = EmulatedNetwork.SwitchOnWithStick(folder.At("stick.img"), disk, EmulatedFirmware.SecureBoot,
            folder.At("variables.fd"));
        _ = machine.StandardError.ReadToEndAsync();
        using var limit = new Timer(_ => machine.Kill(), null, EmulatedNetwork.Patience, Timeout.InfiniteTimeSpan);
        var said = new System.Text.StringBuilder();
        void Answer(string question, string answer)
        {
            while (!said.ToString().Contains(question, StringComparison.Ordinal))
            {
                var letter = machine.StandardOutput.Read();
                Assert.True(letter >= 0, said.ToString());
                said.Append((char)letter);
            }
            machine.StandardInput.Write($"{answer}\n");
            machine.StandardInput.Flush();
            said.Clear();
        }
        Answer("the machine's name", "TVL-9");
        Answer("To erase it, type /dev/vda: ", "/dev/vda");
        said.Append(machine.StandardOutput.ReadToEnd());
        machine.WaitForExit();
        Assert.Contains("Read back and compared: all is as it is in the image.", said.ToString(), StringComparison.Ordinal);
        Assert.Contains("starting from the disk", said.ToString(), StringComparison.Ordinal);
        using var found = ResolvedSource.Open(disk, null);
        Assert.NotNull(WindowsInstall.FindFolder(found.Source));
    }

    // A copy of a reference that is in use is started, and generalized by what it finds on its small disk; the reference stays as it was.
    [Fact]
    public void ACopyOfTheReferenceIsMadeReady()
    {
        Assert.SkipWhen(File.Exists(Path.Combine(Vembar.Repository, "out/vembar.dll")), "a starter needs the program built ahead of time");
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
        using var folder = new TempFolder();
        Ran Run(int code, params string[] arguments)
        {
            var ran = Vembar.Finish(Vembar.Start(arguments));
            Assert.True(ran.Code == code, ran.Error + ran.Output);
            return ran;
        }
        var disks = folder.At("world/disks");
        Run(0, "demo", folder.At("world"), "--world-only", "-q");
        // What a generalized install says of itself; the reference beside it says that it is in use.
        Run(0, "capture", $"{disks}/lending-desk.vhdx", folder.At("good.vmb"), "--name", "Good", "-q");
        Run(0, "take", $"{folder.At("good.vmb")}#1", "Windows/System32/config/SOFTWARE", "--to", folder.At("taken"), "-q");
        Directory.CreateDirectory(folder.At("tools"));
        Directory.CreateDirectory(folder.At("inside"));
        File.Copy("/usr/sbin/ntfscp", folder.At("tools/ntfscp"));
        File.Copy(Directory.EnumerateFiles(folder.At("taken"), "SOFTWARE", SearchOption.AllDirectories).First(),
            folder.At("inside/SOFTWARE"));
        File.WriteAllText(folder.At("inside/run.sh"),
            "/opt/tools/ntfscp -f /dev/sda3 /files/SOFTWARE Windows/System32/config/SOFTWARE && echo GENERALIZED\n");
        File.WriteAllText(folder.At("before.sh"), """
            #!/bin/sh
            mkdir -p /files
            for turn in 1 2 3 4 5 6 7 8 9 10; do
                for disk in /dev/sd?; do mount -t vfat -o ro "$disk" /files 2>/dev/null && break 2; done
                sleep 1
            done
            sh /files/run.sh > /dev/console 2>&1
            sync
            poweroff -f

            """);
        Run(0, "starter", "make", folder.At("starter"), "--version", "1", "--tools", folder.At("tools"), "--script", folder.At("before.sh"),
            "-q");
        Run(0, "starter", "image", folder.At("starter"), folder.At("medium.iso"), "--arguments", "console=ttyS0", "-q");
        var reference = folder.At("world/spoiled/not-generalized.qcow2");
        File.WriteAllText(folder.At("desk.yaml"), $$"""
            from: {{reference}}
            prepare: {medium: medium.iso, files: inside, memory: 1 GiB, emulate: yes, limit: 10 min}
            capture: {archive: desks.vmb, name: Desk}
            """);
        static string Hash(string path) => Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(path)));
        var before = (Hash(reference), Hash($"{disks}/lending-desk.vhdx"));
        var built = Run(0, "build", folder.At("desk.yaml"), "--builds", folder.At("builds"), "--json").Json.GetProperty("run");
        Assert.Equal(before, (Hash(reference), Hash($"{disks}/lending-desk.vhdx")));
        Assert.Equal(["prepare", "ready", "capture", "add"], built.GetProperty("steps").EnumerateArray().Select(s =>
            s.GetProperty("name").GetString()));
        var run = folder.At($"builds/desk/{built.GetProperty("run").GetString()}");
        Assert.Contains("GENERALIZED", File.ReadAllText($"{run}/machine/serial.log"), StringComparison.Ordinal);
        Assert.Equal([0x89, (byte)'P', (byte)'N', (byte)'G'], File.ReadAllBytes($"{run}/machine/screen-000.png")[..4]);
        Assert.Equal("generalized", Run(0, "show", $"{folder.At("desks.vmb")}#1", "--json").Json.GetProperty("image").GetProperty("state")
            .GetString());
        // As it is, the reference may not be captured.
        File.WriteAllText(folder.At("plain.yaml"), $"from: {reference}\ncapture: {{archive: desks.vmb, name: Plain}}\n");
        Run(1, "build", folder.At("plain.yaml"), "--builds", folder.At("builds"));
        // One whose generalizing fails leaves a log, and the log says why.
        File.WriteAllText(folder.At("state.reg"), "Windows Registry Editor Version 5.00\r\n\r\n"
            + @"[HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\Setup\State]"
            + "\r\n\"ImageState\"=\"IMAGE_STATE_COMPLETE\"\r\n");
        File.WriteAllText(folder.At("setupact.log"), "2026-11-27 10:12:00, Info                  SYSPRP "
            + "=== Beginning of a new sysprep run ===\r\n");
        Run(0, "service", $"{folder.At("good.vmb")}#1", "--registry", folder.At("state.reg"), "--put",
            $"{folder.At("setupact.log")}=Windows/System32/Sysprep/Panther/", "--as", "Failing", "-q");
        Run(0, "deploy", $"{folder.At("good.vmb")}#2", folder.At("failing.qcow2"), "--size", "2 GiB", "--accept-misfit", "-q");
        Directory.CreateDirectory(folder.At("failing"));
        File.WriteAllText(folder.At("failing/setuperr.log"), "2026-11-27 10:12:03, Error                 SYSPRP Package "
            + "Wharf.Reader_1.2.3.0_x64__k3n2 was installed for a user, but not provisioned for all users. This package will not function "
            + "properly in the sysprep image.\r\n");
        File.WriteAllText(folder.At("failing/run.sh"),
            "/opt/tools/ntfscp -f /dev/sda3 /files/setuperr.log Windows/System32/Sysprep/Panther/setuperr.log && echo WRITTEN\n");
        File.WriteAllText(folder.At("failing.yaml"), """
            from: failing.qcow2
            prepare: {medium: medium.iso, files: failing, memory: 1 GiB, emulate: yes, limit: 10 min}
            capture: {archive: desks.vmb, name: Failing}
            """);
        var failed = Run(1, "build", folder.At("failing.yaml"), "--builds", folder.At("builds"));
        Assert.Contains("Failed at ready", failed.Output, StringComparison.Ordinal);
        Assert.Contains("Wharf.Reader_1.2.3.0_x64__k3n2", failed.Output, StringComparison.Ordinal);
    }

    // The demo's own: made, switched on, approved, and looked at, in one command.
    [Fact]
    public void TheDemoSwitchesOneOn()
    {
        Assert.SkipWhen(File.Exists(Path.Combine(Vembar.Repository, "out/vembar.dll")), "a starter needs the program built ahead of time");
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
        // Whether there can be such a network at all.
        new EmulatedNetwork().Dispose();
        using var folder = new TempFolder();
        var told = Vembar.Run("demo", folder.At("network"), "--network", "--emulated", "--json");
        Assert.True(told.Code == 0, told.Error + told.Output);
        var checks = told.Json.GetProperty("checks").EnumerateArray().Select(c => c.GetProperty("what").GetString()).ToList();
        Assert.Contains("it has its image", checks);
        Assert.Equal(2, Vembar.Run("demo", folder.At("other"), "--emulated").Code);
    }

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

    [Theory]
    [InlineData(EmulatedFirmware.Bios, false)]
    [InlineData(EmulatedFirmware.SecureBoot, false)]
    [InlineData(EmulatedFirmware.SecureBoot, true)]
    [InlineData(EmulatedFirmware.HttpBoot, false)]
    public async Task FromPowerOnToItsImage(EmulatedFirmware firmware, bool besideAnotherServer)
    {
        Assert.SkipWhen(File.Exists(Path.Combine(Vembar.Repository, "out/vembar.dll")), "a starter needs the program built ahead of time");
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
        using var network = new EmulatedNetwork();
        if (besideAnotherServer)
            network.ServeAddresses();
        using var station = new RunningStation(world, more: besideAnotherServer ? Boot.Replace("mode: full", "mode: proxy, signed: yes",
            StringComparison.Ordinal) : Boot, host: EmulatedNetwork.Station, space: network.Space)
        {
            Patience = EmulatedNetwork.Patience,
        };
        Directory.CreateDirectory(station.At("starters"));
        var made = Vembar.Finish(Vembar.Start(["starter", "make", station.At("starters/one"), "--version", "1", "--authority",
            station.Authority,
            "--json"]));
        Assert.True(made.Code == 0, made.Error);
        Assert.InRange(made.Json.GetProperty("bytes").GetInt64(), 1, 120 << 20);
        var disk = station.Disk(1);
        using (var file = File.Create(disk))
            file.SetLength(2L << 30);
        var clock = Stopwatch.StartNew();
        var machine = network.SwitchOn(disk, firmware, station.At("variables.fd"));
        var said = machine.StandardOutput.ReadToEndAsync();
        _ = machine.StandardError.ReadToEndAsync();
        station.WaitFor(1, MachineState.Waiting);
        Assert.Equal(firmware == EmulatedFirmware.SecureBoot, station.Ok("station", "machines", "TV-00001",
            "--json").Json.GetProperty("report").GetProperty("secureBoot")
            .GetBoolean());
        TestContext.Current.TestOutputHelper?.WriteLine($"{firmware}: waiting after "
            + $"{clock.Elapsed.TotalSeconds:0.0} s");
        // What comes next is the same for all.
        if (firmware == EmulatedFirmware.HttpBoot || besideAnotherServer)
            return;
        station.Ok("station", "approve", "TV-00001", "--name", "TVL-1", "--image", "Lending desk", "--accept", "no-driver", "--accept",
            "no-storage-driver");
        station.WaitFor(1, MachineState.Done);
        // It starts from its disk then; here it is switched off instead.
        machine.WaitForExit();
        TestContext.Current.TestOutputHelper?.WriteLine($"{firmware}: done after "
            + $"{clock.Elapsed.TotalSeconds:0.0} s");
        Assert.Contains("joining https://10.213.79.1", await said, StringComparison.Ordinal);
        using (var found = ResolvedSource.Open(disk, null))
            Assert.NotNull(WindowsInstall.FindFolder(found.Source));
        // Nothing else is to be had without TLS; and a machine that has its image is told to go on to its disk.
        string Fetch(string path) => Tools.Try("ip", ["netns", "exec", network.Space, "curl", "-s", "-o", "-", "-w", "%{http_code}",
            $"http://{EmulatedNetwork.Station}:8471{path}"]).Output;
        Assert.EndsWith("404", Fetch("/api/machines"), StringComparison.Ordinal);
        Assert.EndsWith("404", Fetch("/boot/starters/..%2f..%2fdata/authority.key"), StringComparison.Ordinal);
        Assert.Equal("#!ipxe\nexit\n200", Fetch("/boot/machine.ipxe?uuid=11111111-2222-3333-4444-555555555555"));
        Assert.Contains("vmlinuz", Fetch("/boot/machine.ipxe?uuid=11111111-2222-3333-4444-000000000000"), StringComparison.Ordinal);
    }
}

using Vembar.Cli.Tests.Stations;
using Vembar.Tests;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Machines under software emulation start from media: a stick, and a virtual disc for a copy of a reference.</summary>
[Trait("Set", "Slow")]
public sealed class EmulatedMediumTests(World world, EmulatedStarter starter)
{
    // A stick that carries an image: somebody at the machine says its name, and that the disk may be erased; there is no network.
    [Fact]
    public void AStickWritesWhatItCarries()
    {
        starter.Demand(world);
        using var folder = new TempFolder();
        Ran Run(params string[] arguments)
        {
            var ran = Vembar.Finish(Vembar.Start(arguments));
            Assert.True(ran.Code == 0, ran.Error);
            return ran;
        }
        Run("starter", "image", starter.Path, folder.At("stick.img"), "--with", $"{world.Archive}#Lending desk", "--arguments",
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
        Assert.Contains("Read back and compared: all is as it is in the image", said.ToString(), StringComparison.Ordinal);
        Assert.Contains("starting from the disk", said.ToString(), StringComparison.Ordinal);
        using var found = ResolvedSource.Open(disk, null);
        Assert.NotNull(WindowsInstall.FindFolder(found.Source));
    }

    // A copy of a reference that is in use is started, and generalized by what it finds on its small disk; the reference stays as it was.
    [Fact]
    public void ACopyOfTheReferenceIsMadeReady()
    {
        starter.Demand(world);
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
        Directory.CreateDirectory(folder.At("inside"));
        File.Copy(Directory.EnumerateFiles(folder.At("taken"), "SOFTWARE", SearchOption.AllDirectories).First(),
            folder.At("inside/SOFTWARE"));
        File.WriteAllText(folder.At("inside/run.sh"),
            "/opt/tools/ntfscp -f /dev/sda3 /files/SOFTWARE Windows/System32/config/SOFTWARE && echo GENERALIZED\n");
        Run(0, "starter", "image", starter.Path, folder.At("medium.iso"), "--arguments", $"console=ttyS0 {EmulatedStarter.Prepare}", "-q");
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
}

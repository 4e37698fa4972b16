using System.Diagnostics;
using Vembar.Cli.Tests.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Vembar.Windows.Install;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>Machines under software emulation start from the network by a station, and get their image. The demo's own starts by its
/// BIOS.</summary>
[Trait("Set", "Slow")]
public sealed class EmulatedMachineTests(World world, EmulatedStarter starter)
{
    private static string Boot => $"starters: starters\nboot: {{ mode: full, interface: br0, address: {EmulatedNetwork.Station}, "
        + "range: 10.213.79.100-10.213.79.120, arguments: 'console=ttyS0' }";

    [Theory]
    [InlineData(EmulatedFirmware.SecureBoot, false)]
    [InlineData(EmulatedFirmware.SecureBoot, true)]
    [InlineData(EmulatedFirmware.HttpBoot, false)]
    public async Task FromPowerOnToItsImage(EmulatedFirmware firmware, bool besideAnotherServer)
    {
        starter.Demand(world);
        using var network = new EmulatedNetwork();
        if (besideAnotherServer)
            network.ServeAddresses();
        var boot = besideAnotherServer ? Boot.Replace("mode: full", "mode: proxy, signed: yes", StringComparison.Ordinal) : Boot;
        using var station = new RunningStation(world, keys: starter.Keys, more: boot, host: EmulatedNetwork.Station, space: network.Space)
        {
            Patience = EmulatedNetwork.Patience,
        };
        Directory.CreateDirectory(station.At("starters"));
        Tools.Run("cp", ["-r", starter.Path, station.At("starters/one")]);
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

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

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task FromPowerOnToItsImage(bool isSecure)
    {
        Assert.SkipWhen(File.Exists(Path.Combine(Vembar.Repository, "out/vembar.dll")), "a starter needs the program built ahead of time");
        Assert.SkipUnless(Tools.Try("apt-cache", ["show", "linux-image-amd64"]).Code == 0, "starters are made of Debian's packages");
        using var network = new EmulatedNetwork();
        using var station = new RunningStation(world, more: Boot, host: EmulatedNetwork.Station, space: network.Space)
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
        var machine = network.SwitchOn(disk, isSecure, station.At("variables.fd"));
        var said = machine.StandardOutput.ReadToEndAsync();
        _ = machine.StandardError.ReadToEndAsync();
        station.WaitFor(1, MachineState.Waiting);
        Assert.Equal(isSecure, station.Ok("station", "machines", "TV-00001", "--json").Json.GetProperty("report").GetProperty("secureBoot")
            .GetBoolean());
        TestContext.Current.TestOutputHelper?.WriteLine($"{(isSecure ? "secure boot" : "BIOS")}: waiting after "
            + $"{clock.Elapsed.TotalSeconds:0.0} s");
        station.Ok("station", "approve", "TV-00001", "--name", "TVL-1", "--image", "Lending desk", "--accept", "no-driver", "--accept",
            "no-storage-driver");
        station.WaitFor(1, MachineState.Done);
        // It starts from its disk then; here it is switched off instead.
        machine.WaitForExit();
        TestContext.Current.TestOutputHelper?.WriteLine($"{(isSecure ? "secure boot" : "BIOS")}: done after "
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

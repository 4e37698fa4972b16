using System.Diagnostics;
using System.Globalization;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Starters;

/// <summary>A network of its own: a bridge with the station's address, and a cable for an emulated machine.</summary>
public sealed class EmulatedNetwork : IDisposable
{
    /// <summary>How long an emulated machine may take, also where others use the processor.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromMinutes(10);

    /// <summary>The station's address.</summary>
    public const string Station = "10.213.79.1";

    private const string OtherServer = "10.213.79.2";

    private const string Firmware = "/usr/share/OVMF/OVMF_CODE_4M.ms.fd", Variables = "/usr/share/OVMF/OVMF_VARS_4M.ms.fd",
        PlainFirmware = "/usr/share/OVMF/OVMF_CODE_4M.fd", PlainVariables = "/usr/share/OVMF/OVMF_VARS_4M.fd";

    private readonly List<Process> _machines = [];

    private static int s_networks;

    /// <summary>The namespace; several tests have one at the same time.</summary>
    public string Space { get; } = string.Create(CultureInfo.InvariantCulture,
        $"vmbt{Environment.ProcessId}n{Interlocked.Increment(ref s_networks)}");

    public EmulatedNetwork()
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to make a network");
        Remove();
        var (code, _, error) = Tools.Try("ip", ["netns", "add", Space]);
        Assert.SkipUnless(code == 0, $"cannot make a network here: {error}");
        foreach (var arguments in (string[])["link set lo up", "link add br0 type bridge stp_state 0 forward_delay 0 mcast_snooping 0",
            $"addr add {Station}/24 dev br0", "link set br0 up", "tuntap add t0 mode tap", "link set t0 master br0", "link set t0 up"])
        {
            (code, _, error) = Tools.Try("ip", ["-n", Space, .. arguments.Split(' ')]);
            if (code == 0)
                continue;
            Tools.Try("ip", ["netns", "del", Space]);
            Assert.Skip($"cannot make a network here: `ip {arguments}`: {error}");
        }
    }

    /// <summary>Switches a machine on that starts from a stick, with no network at all.</summary>
    /// <param name="stick">What is on the stick.</param>
    /// <param name="disk">Its disk, raw.</param>
    /// <param name="firmware">Its firmware.</param>
    /// <param name="variables">Where such firmware keeps its variables.</param>
    /// <returns>The machine; what it says on its serial line is its output, and its input is typed at it.</returns>
    public static Process SwitchOnWithStick(string stick, string disk, EmulatedFirmware firmware, string variables) =>
        Process.Start(new ProcessStartInfo("qemu-system-x86_64", [.. Board(firmware), "-drive",
            $"if=none,id=s,file={stick},format=raw,readonly=on", "-device", "qemu-xhci", "-device", "usb-storage,drive=s,bootindex=1",
            "-drive", $"if=none,id=d,file={disk},format=raw", "-device", "virtio-blk-pci,drive=d,bootindex=2",
            .. FirmwareOf(firmware, variables)])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!;

    /// <summary>Puts a DHCP server of somebody else's into the network; it names the station as the next server.</summary>
    public void ServeAddresses()
    {
        var space = $"{Space}d";
        Tools.Run("ip", ["netns", "add", space]);
        foreach (var arguments in (string[])[$"-n {Space} link add d0 type veth peer name e0 netns {space}",
            $"-n {Space} link set d0 master br0 up", $"-n {space} addr add {OtherServer}/24 dev e0", $"-n {space} link set e0 up"])
            Tools.Run("ip", arguments.Split(' '));
        _machines.Add(Process.Start(new ProcessStartInfo("ip", ["netns", "exec", space, "dnsmasq", "--keep-in-foreground", "--port=0",
            "--conf-file=/dev/null", "--interface=e0", "--bind-interfaces", "--dhcp-range=10.213.79.100,10.213.79.120,1h",
            $"--dhcp-boot=,,{Station}", "--leasefile-ro", "--pid-file=", "--user=root", "--log-facility=-"])
        {
            RedirectStandardError = true,
        })!);
        _ = _machines[^1].StandardError.ReadToEndAsync();
    }

    private static string[] Board(EmulatedFirmware firmware) => ["-accel", "tcg,thread=multi", "-M",
        $"q35,smm={(firmware == EmulatedFirmware.SecureBoot ? "on" : "off")},graphics=off", "-cpu", "max", "-smp", "2", "-m", "1024",
            "-nodefaults", "-display", "none",
        "-serial", "stdio", "-no-reboot"];

    private static string[] FirmwareOf(EmulatedFirmware firmware, string variables)
    {
        if (firmware == EmulatedFirmware.Bios)
            return [];
        var isSecure = firmware == EmulatedFirmware.SecureBoot;
        File.Copy(isSecure ? Variables : PlainVariables, variables, overwrite: true);
        string[] drives = ["-drive", $"if=pflash,format=raw,readonly=on,file={(isSecure ? Firmware : PlainFirmware)}", "-drive",
            $"if=pflash,format=raw,file={variables}"];
        // OVMF is told so what it leaves out: then it fetches by HTTP and IPv4 alone.
        return isSecure ? ["-global", "driver=cfi.pflash01,property=secure,value=on", .. drives]
            : [.. drives, "-fw_cfg", "name=opt/org.tianocore/IPv4PXESupport,string=n", "-fw_cfg",
                "name=opt/org.tianocore/IPv6PXESupport,string=n"];
    }

    /// <summary>Switches a machine on, under software emulation.</summary>
    /// <param name="disk">Its disk, raw.</param>
    /// <param name="firmware">Its firmware.</param>
    /// <param name="variables">Where such firmware keeps its variables.</param>
    /// <returns>The machine; what it says on its serial line is its output.</returns>
    public Process SwitchOn(string disk, EmulatedFirmware firmware, string variables)
    {
        var machine = Process.Start(new ProcessStartInfo("ip", ["netns", "exec", Space, "qemu-system-x86_64", .. Board(firmware),
            "-netdev", "tap,id=n,ifname=t0,script=no,downscript=no", "-device",
            // UEFI has a network stack of its own; a BIOS starts by the card's.
            $"virtio-net-pci,netdev=n,mac=52:54:00:66:00:0a,bootindex=1{(firmware == EmulatedFirmware.Bios ? "" : ",romfile=")}", "-drive",
            $"if=none,id=d,file={disk},format=raw", "-device",
            "virtio-blk-pci,drive=d,bootindex=2", "-smbios",
            "type=1,manufacturer=Oakmere,product=M4,serial=TV-00001,uuid=11111111-2222-3333-4444-555555555555",
            .. FirmwareOf(firmware, variables)])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!;
        machine.StandardInput.Close();
        _machines.Add(machine);
        return machine;
    }

    public void Dispose()
    {
        foreach (var machine in _machines)
        {
            if (!machine.HasExited)
                machine.Kill(entireProcessTree: true);
            machine.WaitForExit();
            machine.Dispose();
        }
        // Also what a station left that was killed.
        Remove();
    }

    private void Remove()
    {
        foreach (var space in (string[])[$"{Space}d", Space])
        {
            Tools.Try("sh", ["-c", $"ip netns pids {space} | xargs -r kill -KILL"]);
            Tools.Try("ip", ["netns", "del", space]);
        }
    }
}

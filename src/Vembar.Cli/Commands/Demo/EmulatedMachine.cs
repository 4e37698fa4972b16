using Vembar.Common;
using Vembar.Native;
using Vembar.Native.Helpers;
using Vembar.Volumes.Machines;

namespace Vembar.Cli.Commands.Demo;

/// <summary>A bare machine of the demo under QEMU, with a cable to the demo's bridge: it starts from the network, and from nothing
/// else.</summary>
internal sealed class EmulatedMachine : IDisposable
{
    private const string Program = "qemu-system-x86_64";

    private readonly HelperProcess _process;
    private readonly string _serial;

    private readonly string _cable;

    private EmulatedMachine(HelperProcess process, string cable, string serial)
    {
        _cable = cable;
        _process = process;
        _serial = serial;
    }

    /// <summary>What is missing for one here, with what to do; null for nothing.</summary>
    public static (string Problem, string Remedy)? Missing()
    {
        static bool IsThere(string name) => ((string[])["/usr/bin", "/usr/sbin", "/usr/local/bin", "/sbin"])
            .Any(folder => File.Exists(Path.Combine(folder, name)));
        return Posix.UserId != 0 ? ("it needs a network of its own", "Run it as root.")
            : !IsThere(Program) ? ("QEMU is not installed", "Install it (Debian: qemu-system-x86).")
            : !IsThere("dnsmasq") ? ("dnsmasq is not installed", "Install it (Debian: dnsmasq-base).")
            : !File.Exists("/dev/net/tun") ? ("there is no /dev/net/tun", "Load the kernel's module: modprobe tun.") : null;
    }

    /// <summary>Switches it on.</summary>
    /// <param name="bridge">The bridge that its cable goes to.</param>
    /// <param name="cable">The name of its cable.</param>
    /// <param name="disk">Its disk, raw.</param>
    /// <param name="serial">The file that its serial line goes to.</param>
    /// <param name="number">What it has for a serial number and address.</param>
    /// <exception cref="VembarException">It cannot be started.</exception>
    public static EmulatedMachine SwitchOn(string bridge, string cable, string disk, string serial, int number)
    {
        foreach (var arguments in (string[])[$"tuntap add {cable} mode tap", $"link set {cable} master {bridge}", $"link set {cable} up"])
        {
            if (!DemoNetwork.TryIp(arguments))
                throw VembarException.Environment("demo-failed", $"`ip {arguments}` failed", "It needs the kernel's module tun.");
        }
        var process = HelperProcess.Start(new HelperStart(HelperProcess.Find(Program)!, ["-accel", MachineProbe.Run() ? "kvm"
            : "tcg,thread=multi", "-M",
            "q35,smm=off,graphics=off", "-cpu", "max", "-smp", "2", "-m", "1024", "-nodefaults", "-display", "none", "-no-reboot",
            "-serial", $"file:{serial}", "-netdev", $"tap,id=n,ifname={cable},script=no,downscript=no", "-device",
            FormattableString.Invariant($"virtio-net-pci,netdev=n,mac=52:54:00:77:00:{number:x2},bootindex=1"), "-drive",
            $"if=none,id=d,file={disk},format=raw", "-device", "virtio-blk-pci,drive=d,bootindex=2", "-smbios",
            FormattableString.Invariant($"type=1,manufacturer=Oakmere,product=M4,serial=TV-{number:00000}")]));
        return new EmulatedMachine(process, cable, serial);
    }

    /// <summary>Says so where it was switched off, or found nothing to start.</summary>
    /// <exception cref="VembarException">It is so.</exception>
    public void EnsureItGoesOn()
    {
        if (_process.HasExited)
            throw VembarException.Environment("demo-failed", $"the machine was switched off: {_process.Error.ReadToEnd().Trim()}",
                $"{_serial} has what it said.");
        // What its firmware says.
        if (Said(1) is ["No bootable device."])
            throw VembarException.Environment("demo-failed", "the machine got nothing from the network",
                "See whether another program on this machine serves DHCP or TFTP (`ss -lunp`).");
    }

    /// <summary>What it said last on its serial line.</summary>
    /// <param name="most">How many lines at most.</param>
    public IReadOnlyList<string> Said(int most)
    {
        if (!File.Exists(_serial))
            return [];
        var lines = File.ReadAllText(_serial).Split('\n').Select(l => Text.Safe(l.Trim('\r', ' '))).Where(l => l.Length > 0).ToList();
        return lines[Math.Max(0, lines.Count - most)..];
    }

    public void Dispose()
    {
        if (!_process.HasExited)
            _process.Kill();
        _process.WaitForExit();
        _process.Dispose();
        DemoNetwork.TryIp($"link del {_cable}");
    }
}

using System.Globalization;
using Vembar.Operations.Starters;
using Vembar.Station.Hosting;

namespace Vembar.Station.Boot;

/// <summary>What boot loaders are told: scripts for iPXE and GRUB.</summary>
public static class BootScripts
{
    /// <summary>What the kernel of a starter is told.</summary>
    /// <param name="boot">How machines start.</param>
    /// <param name="station">The station's address.</param>
    public static string CommandLine(BootOptions boot, string station) =>
        $"quiet panic=10 vembar.station={station} {boot.Arguments}".TrimEnd();

    /// <summary>The first script that iPXE asks for: it says who it is.</summary>
    public static string First(BootOptions boot) => string.Create(CultureInfo.InvariantCulture,
        $"#!ipxe\nchain http://{boot.Address}:{boot.Port}/boot/machine.ipxe?uuid=${{uuid}}&serial=${{serial:uristring}}")
        + "&mac=${net0/mac}\n";

    /// <summary>The script for a machine that runs a starter.</summary>
    public static string Run(BootOptions boot, string folder, string station)
    {
        var from = string.Create(CultureInfo.InvariantCulture, $"http://{boot.Address}:{boot.Port}/boot/starters/{folder}");
        return $"#!ipxe\nkernel {from}/{StarterManifest.KernelFile} initrd={StarterManifest.InitialFile} {CommandLine(boot, station)}\n"
            + $"initrd --name {StarterManifest.InitialFile} {from}/{StarterManifest.InitialFile}\nboot\n";
    }

    /// <summary>The script for a machine that has nothing to do here: its firmware goes on to the next on its list.</summary>
    public const string GoOn = "#!ipxe\nexit\n";

    /// <summary>The folder of starters, where boot loaders fetch by TFTP.</summary>
    public const string TftpFolder = "starters";

    /// <summary>GRUB's file.</summary>
    /// <param name="boot">How machines start.</param>
    /// <param name="station">The station's address.</param>
    /// <param name="starter">The folder of the starter that most machines get.</param>
    /// <param name="idle">Network addresses (01:23:45:67:89:ab) of machines that have nothing to do here.</param>
    /// <param name="others">Network addresses of machines that get another starter, with its folder.</param>
    public static string Grub(BootOptions boot, string station, string starter, IEnumerable<string> idle,
        IEnumerable<(string Address, string Starter)> others) => $"set timeout=0\nset starter={starter}\n"
        + string.Concat(idle.Order(StringComparer.Ordinal).Select(a => $"if [ \"$net_default_mac\" = \"{a}\" ]; then exit 1; fi\n"))
        + string.Concat(others.OrderBy(o => o.Address, StringComparer.Ordinal)
            .Select(o => $"if [ \"$net_default_mac\" = \"{o.Address}\" ]; then set starter={o.Starter}; fi\n"))
        + $"linux (tftp)/{TftpFolder}/$starter/{StarterManifest.KernelFile} {CommandLine(boot, station)}\n"
        + $"initrd (tftp)/{TftpFolder}/$starter/{StarterManifest.InitialFile}\nboot\n";
}

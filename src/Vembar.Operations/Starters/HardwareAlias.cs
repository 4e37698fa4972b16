using System.Globalization;
using System.Text.RegularExpressions;

namespace Vembar.Operations.Starters;

/// <summary>What the kernel calls a device that Windows calls otherwise: hardware ids as modalias, by which modules are found.</summary>
internal static partial class HardwareAlias
{
    [GeneratedRegex(@"^PCI\\VEN_(?<v>[0-9A-F]{4})&DEV_(?<d>[0-9A-F]{4})(&SUBSYS_(?<sd>[0-9A-F]{4})(?<sv>[0-9A-F]{4}))?",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Pci();

    [GeneratedRegex(@"^PCI\\CC_(?<bc>[0-9A-F]{2})(?<sc>[0-9A-F]{2})(?<i>[0-9A-F]{2})?",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex PciClass();

    [GeneratedRegex(@"^USB\\VID_(?<v>[0-9A-F]{4})&PID_(?<p>[0-9A-F]{4})", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Usb();

    /// <summary>The aliases of a device, from its ids of Windows; none for a bus that is not known here.</summary>
    /// <param name="ids">Hardware and compatible ids.</param>
    public static IReadOnlyList<string> Of(IEnumerable<string> ids)
    {
        var all = ids.ToList();
        // One alias says both, who made the device and what kind it is.
        var kind = all.Select(i => PciClass().Match(i)).FirstOrDefault(m => m.Success);
        string Class(string group, string or) =>
            kind?.Groups[group] is { Success: true, Value: var value } ? value.ToUpperInvariant() : or;
        var aliases = new List<string>();
        foreach (var match in all.Select(i => Pci().Match(i)).Where(m => m.Success))
        {
            string Id(string group, string or) =>
                match.Groups[group] is { Success: true, Value: var value } ? $"0000{value.ToUpperInvariant()}" : or;
            aliases.Add(string.Create(CultureInfo.InvariantCulture,
                $"pci:v{Id("v", "")}d{Id("d", "")}sv{Id("sv", "00000000")}sd{Id("sd", "00000000")}"
                + $"bc{Class("bc", "FF")}sc{Class("sc", "FF")}i{Class("i", "FF")}"));
        }
        if (aliases.Count == 0 && kind is not null)
            aliases.Add($"pci:v0000FFFFd0000FFFFsv00000000sd00000000bc{Class("bc", "FF")}sc{Class("sc", "FF")}i{Class("i", "FF")}");
        aliases.AddRange(all.Select(i => Usb().Match(i)).Where(m => m.Success).Select(m =>
            $"usb:v{m.Groups["v"].Value.ToUpperInvariant()}p{m.Groups["p"].Value.ToUpperInvariant()}d0000dc00dsc00dp00icFFiscFFipFFin00"));
        return [.. aliases.Distinct(StringComparer.Ordinal)];
    }
}

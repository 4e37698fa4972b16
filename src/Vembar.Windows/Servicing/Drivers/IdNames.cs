using System.Globalization;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Names of PCI and USB devices, from the lists of the hwdata package where they are installed.</summary>
public sealed class IdNames
{
    private const long LongestList = 64 << 20;
    private static readonly string[] s_folders = ["/usr/share/hwdata", "/usr/share/misc"];
    private readonly Dictionary<string, string> _pci = new(StringComparer.OrdinalIgnoreCase), _usb = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Reads the lists of this machine; without them there are no names.</summary>
    public static IdNames Load(IReadOnlyList<string>? folders = null)
    {
        var names = new IdNames();
        foreach (var (file, into) in ((string, Dictionary<string, string>)[])[("pci.ids", names._pci), ("usb.ids", names._usb)])
        {
            if ((folders ?? s_folders).Select(f => Path.Combine(f, file)).FirstOrDefault(File.Exists) is { } path
                && new FileInfo(path).Length <= LongestList)
                Read(File.ReadLines(path), into);
        }
        return names;
    }

    // "vvvv  Vendor", then "\tdddd  Device"; "C cc  Class", then "\tss  Subclass".
    private static void Read(IEnumerable<string> lines, Dictionary<string, string> names)
    {
        string vendor = "", vendorName = "";
        foreach (var line in lines)
        {
            if (line.Length == 0 || line[0] == '#' || line.StartsWith("\t\t", StringComparison.Ordinal))
                continue;
            var split = line.IndexOf("  ", StringComparison.Ordinal);
            if (split < 0)
                continue;
            var name = line[split..].Trim();
            if (line[0] != '\t')
            {
                vendor = line[..split];
                vendorName = name;
                names.TryAdd(vendor, name);
            }
            else
                names.TryAdd($"{vendor}:{line[1..split]}",
                    vendor.StartsWith("C ", StringComparison.Ordinal) ? name : $"{vendorName} {name}");
        }
    }

    /// <summary>A PCI device's name, or null.</summary>
    public string? Pci(uint vendor, uint device) =>
        _pci.GetValueOrDefault(string.Create(CultureInfo.InvariantCulture, $"{vendor:x4}:{device:x4}"));

    /// <summary>What a PCI class is called, or null.</summary>
    public string? PciClass(uint classCode) =>
        _pci.GetValueOrDefault(string.Create(CultureInfo.InvariantCulture, $"C {classCode >> 16:x2}:{(classCode >> 8) & 0xFF:x2}"));

    /// <summary>A USB device's name, or null.</summary>
    public string? Usb(string vendor, string product) => _usb.GetValueOrDefault($"{vendor}:{product}");
}

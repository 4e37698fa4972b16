using System.Globalization;
using System.Text.RegularExpressions;
using Vembar.Common;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>Finds out the devices of the machine that it runs on, from Linux' /sys, with the ids that Windows would give them.</summary>
/// <remarks>Source: the vendor's "Identifiers for PCI Devices", "Standard USB Identifiers", "HID hardware ids", "Identifiers for HD
/// Audio", "ACPI identifiers"; Linux' modalias formats in scripts/mod/file2alias.c.</remarks>
public static partial class HardwareScan
{
    private const int StorageClass = 1, NetworkClass = 2;

    /// <summary>Makes a profile of a machine.</summary>
    /// <param name="sys">Its /sys, or a copy of it.</param>
    /// <param name="model">The model's name; null for what the firmware says.</param>
    /// <param name="names">Names of devices; see <see cref="IdNames"/>.</param>
    /// <exception cref="VembarException">There is no such folder, or it shows no devices.</exception>
    public static HardwareProfile Run(string sys, string? model, IdNames names)
    {
        if (!Directory.Exists(Path.Combine(sys, "bus")))
            throw VembarException.Input("no-sys", $"'{sys}' does not show any devices",
                Advice.Of("no-sys"));
        var devices = Bus(sys, "pci", Pci, names).Concat(Bus(sys, "hdaudio", HdAudio, names)).Concat(Bus(sys, "usb", Usb, names))
            .Concat(Bus(sys, "hid", Hid, names)).Concat(Bus(sys, "acpi", Acpi, names))
            .DistinctBy(d => string.Join('|', d.HardwareIds).ToUpperInvariant()).ToList();
        if (devices.Count == 0)
            throw VembarException.Input("no-sys", $"'{sys}' shows no PCI, USB, HID, audio or ACPI devices",
                Advice.Of("no-sys"));
        model ??= string.Join(' ', new[] { Text(Path.Combine(sys, "class/dmi/id/sys_vendor")),
            Text(Path.Combine(sys, "class/dmi/id/product_name")) }.Where(t => t.Length > 0));
        return new HardwareProfile(model.Length > 0 ? model : "unknown model", devices);
    }

    private static IEnumerable<HardwareDevice> Bus(string sys, string bus, Func<string, IdNames, HardwareDevice?> read, IdNames names)
    {
        var folder = Path.Combine(sys, "bus", bus, "devices");
        return Directory.Exists(folder) ? Directory.EnumerateFileSystemEntries(folder).Order(StringComparer.Ordinal)
            .Select(d => read(d, names)).OfType<HardwareDevice>() : [];
    }

    // Files of /sys say what they hold only when they are read, and may say that there is nothing.
    private static string Text(string path)
    {
        try
        {
            return File.Exists(path) ? File.ReadAllText(path).Trim() : "";
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    private static uint? Hex(string text) =>
        uint.TryParse(text.StartsWith("0x", StringComparison.OrdinalIgnoreCase) ? text.AsSpan(2) : text, NumberStyles.HexNumber,
        CultureInfo.InvariantCulture, out var number) ? number : null;

    private static string X(FormattableString text) => text.ToString(CultureInfo.InvariantCulture);

    private static HardwareDevice? Pci(string at, IdNames names)
    {
        if (Hex(Text($"{at}/vendor")) is not { } vendor || Hex(Text($"{at}/device")) is not { } device
            || Hex(Text($"{at}/class")) is not { } classCode)
            return null;
        var subVendor = Hex(Text($"{at}/subsystem_vendor")) ?? 0;
        var sub = Hex(Text($"{at}/subsystem_device")) ?? 0;
        var revision = Hex(Text($"{at}/revision")) ?? 0;
        var main = X($@"PCI\VEN_{vendor:X4}&DEV_{device:X4}");
        string full = X($"CC_{classCode:X6}"), part = X($"CC_{classCode >> 8:X4}"), owner = X($@"PCI\VEN_{vendor:X4}");
        var kind = classCode >> 16;
        return new HardwareDevice(
            names.Pci(vendor, device) ?? X($"{names.PciClass(classCode) ?? "PCI device"} {vendor:x4}:{device:x4}"),
            [X($"{main}&SUBSYS_{sub:X4}{subVendor:X4}&REV_{revision:X2}"), X($"{main}&SUBSYS_{sub:X4}{subVendor:X4}"), $"{main}&{full}",
            $"{main}&{part}"],
            [X($"{main}&REV_{revision:X2}"), main, $"{owner}&{full}", $"{owner}&{part}", owner, $@"PCI\{full}", $@"PCI\{part}"],
            kind is StorageClass or NetworkClass, kind == StorageClass);
    }

    private static HardwareDevice? Usb(string at, IdNames names)
    {
        var alias = UsbAlias().Match(Text($"{at}/modalias"));
        if (!alias.Success)
            return null;
        string vendor = alias.Groups["v"].Value, product = alias.Groups["p"].Value, revision = alias.Groups["d"].Value;
        // Hubs and other devices of the bus itself come with every machine.
        const string HubClass = "09";
        if (alias.Groups["dc"].Value == HubClass)
            return null;
        // Interfaces of a device with several have drivers of their own.
        var several = int.TryParse(Text(Path.Combine(Path.GetDirectoryName(at)!, Path.GetFileName(at).Split(':')[0], "bNumInterfaces")),
            CultureInfo.InvariantCulture, out var count) && count > 1;
        var middle = several ? $"&MI_{alias.Groups["in"].Value}" : "";
        var kind = $@"USB\Class_{alias.Groups["ic"].Value}&SubClass_{alias.Groups["isc"].Value}&Prot_{alias.Groups["ip"].Value}";
        var network = alias.Groups["ic"].Value is "02" or "E0";
        return new HardwareDevice(
            names.Usb(vendor, product) ?? $"USB device {vendor}:{product}".ToLowerInvariant(),
            [$@"USB\VID_{vendor}&PID_{product}&REV_{revision}{middle}", $@"USB\VID_{vendor}&PID_{product}{middle}"],
            [kind, kind[..kind.LastIndexOf('&')], kind[..kind.IndexOf('&')]],
            network, false);
    }

    [GeneratedRegex("^usb:v(?<v>[0-9A-F]{4})p(?<p>[0-9A-F]{4})d(?<d>[0-9A-F]{4})dc(?<dc>[0-9A-F]{2})"
        + "dsc[0-9A-F]{2}dp[0-9A-F]{2}ic(?<ic>[0-9A-F]{2})isc(?<isc>[0-9A-F]{2})ip(?<ip>[0-9A-F]{2})in(?<in>[0-9A-F]{2})")]
    private static partial Regex UsbAlias();

    private static HardwareDevice? Hid(string at, IdNames names)
    {
        var alias = HidAlias().Match(Text($"{at}/modalias"));
        if (!alias.Success)
            return null;
        var id = $"VID_{alias.Groups["v"].Value}&PID_{alias.Groups["p"].Value}";
        return new HardwareDevice(names.Usb(alias.Groups["v"].Value, alias.Groups["p"].Value)
            ?? $"input device {alias.Groups["v"].Value}:{alias.Groups["p"].Value}".ToLowerInvariant(), [$@"HID\{id}"], ["HID_DEVICE"],
            false, false);
    }

    [GeneratedRegex("^hid:b[0-9A-F]{4}g[0-9A-F]{4}v0000(?<v>[0-9A-F]{4})p0000(?<p>[0-9A-F]{4})")]
    private static partial Regex HidAlias();

    private static HardwareDevice? HdAudio(string at, IdNames names)
    {
        if (Hex(Text($"{at}/vendor_id")) is not { } id)
            return null;
        var sub = Hex(Text($"{at}/subsystem_id")) ?? 0;
        var revision = Hex(Text($"{at}/revision_id")) ?? 0;
        var main = X($@"HDAUDIO\FUNC_01&VEN_{id >> 16:X4}&DEV_{id & 0xFFFF:X4}");
        var chip = Text($"{at}/chip_name");
        var name = $"{Text($"{at}/vendor_name")} {chip}".Trim();
        return new HardwareDevice(
            name.Length > 0 ? name : X($"audio codec {id >> 16:x4}:{id & 0xFFFF:x4}"),
            [X($"{main}&SUBSYS_{sub:X8}&REV_{revision & 0xFFFF:X4}"), X($"{main}&SUBSYS_{sub:X8}")],
            [X($"{main}&REV_{revision & 0xFFFF:X4}"), main, X($@"HDAUDIO\FUNC_01&VEN_{id >> 16:X4}"), @"HDAUDIO\FUNC_01"],
            false, false);
    }

    private static HardwareDevice? Acpi(string at, IdNames names)
    {
        // The first is the device's own, the others those that it is compatible with.
        var ids = Text($"{at}/modalias") is { Length: > 5 } alias && alias.StartsWith("acpi:", StringComparison.Ordinal)
            ? alias[5..].Split(':', StringSplitOptions.RemoveEmptyEntries).Where(i => AcpiId().IsMatch(i)).ToList() : [];
        if (ids.Count == 0)
            return null;
        static IEnumerable<string> Forms(string id)
        {
            var vendor = id[..^4];
            yield return $@"ACPI\VEN_{vendor}&DEV_{id[^4..]}";
            yield return $@"ACPI\{id}";
            yield return $"*{id}";
        }
        return new HardwareDevice($"ACPI device {ids[0]}", [.. Forms(ids[0])], [.. ids.Skip(1).SelectMany(Forms)], false, false);
    }

    [GeneratedRegex("^[A-Z0-9]{3,4}[0-9A-F]{4}$")]
    private static partial Regex AcpiId();
}

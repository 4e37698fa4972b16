using System.Globalization;
using System.Text.RegularExpressions;

namespace Vembar.Demo;

/// <summary>A machine of the demo world, as the part of Linux' /sys that says what a machine is.</summary>
public static partial class DemoMachine
{
    /// <summary>Writes a machine's /sys.</summary>
    /// <param name="folder">Where; made.</param>
    /// <param name="profile">The hardware profile of its model.</param>
    /// <param name="serial">Its serial number.</param>
    /// <param name="number">Tells it from others: its UUID and network address come from that.</param>
    /// <param name="isUefi">Whether its firmware is UEFI.</param>
    public static void Write(string folder, string profile, string serial, int number, bool isUefi = true)
    {
        var text = File.ReadAllText(profile);
        var model = ModelLine().Match(text).Groups[1].Value.Trim();
        Put(folder, "class/dmi/id/sys_vendor", model.Split(' ')[0]);
        Put(folder, "class/dmi/id/product_name", model);
        Put(folder, "class/dmi/id/product_serial", serial);
        Put(folder, "class/dmi/id/product_uuid", string.Create(CultureInfo.InvariantCulture, $"7a1e0c00-5d1c-4e11-9b00-{number:x12}"));
        Put(folder, "class/net/eth0/address", string.Create(CultureInfo.InvariantCulture,
            $"02:f1:d0:{number >> 16 & 0xFF:x2}:{number >> 8 & 0xFF:x2}:{number & 0xFF:x2}"));
        Directory.CreateDirectory(Path.Combine(folder, "class/net/eth0/device"));
        Directory.CreateDirectory(Path.Combine(folder, isUefi ? "firmware/efi" : "firmware"));
        var at = 0;
        foreach (var device in text.Split("- name:").Skip(1))
            PutDevice(folder, device, at++);
    }

    private static void PutDevice(string folder, string device, int at)
    {
        string F(FormattableString name) => name.ToString(CultureInfo.InvariantCulture);
        if (Pci().Match(device) is { Success: true } pci)
        {
            var place = F($"bus/pci/devices/0000:00:{at:x2}.0");
            var code = ClassCode().Match(device) is { Success: true } found ? found.Groups[1].Value.PadRight(6, '0') : "000000";
            Put(folder, $"{place}/vendor", $"0x{pci.Groups[1].Value}");
            Put(folder, $"{place}/device", $"0x{pci.Groups[2].Value}");
            Put(folder, $"{place}/subsystem_device", $"0x{pci.Groups[3].Value}");
            Put(folder, $"{place}/subsystem_vendor", $"0x{pci.Groups[4].Value}");
            Put(folder, $"{place}/revision", $"0x{pci.Groups[5].Value}");
            Put(folder, $"{place}/class", $"0x{code}");
        }
        else if (Audio().Match(device) is { Success: true } audio)
        {
            var place = F($"bus/hdaudio/devices/hdaudioC0D{at}");
            Put(folder, $"{place}/vendor_id", $"0x{audio.Groups[1].Value}{audio.Groups[2].Value}");
            Put(folder, $"{place}/subsystem_id", $"0x{audio.Groups[3].Value}");
            Put(folder, $"{place}/revision_id", $"0x10{audio.Groups[4].Value[2..]}00");
        }
        else if (Usb().Match(device) is { Success: true } usb)
            Put(folder, F($"bus/usb/devices/1-{at}:1.0/modalias"),
                $"usb:v{usb.Groups[1].Value}p{usb.Groups[2].Value}d0100dc00dsc00dp00icFFisc00ip00in00");
        else if (Hid().Match(device) is { Success: true } hid)
            Put(folder, F($"bus/hid/devices/0003:{at:X4}/modalias"), $"hid:b0003g0001v0000{hid.Groups[1].Value}p0000{hid.Groups[2].Value}");
    }

    private static void Put(string folder, string name, string text)
    {
        var path = Path.Combine(folder, name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path, $"{text}\n");
    }

    [GeneratedRegex("^model: *(.+)$", RegexOptions.Multiline)]
    private static partial Regex ModelLine();

    [GeneratedRegex("PCI.VEN_([0-9A-F]{4})&DEV_([0-9A-F]{4})&SUBSYS_([0-9A-F]{4})([0-9A-F]{4})&REV_([0-9A-F]{2})")]
    private static partial Regex Pci();

    [GeneratedRegex("CC_([0-9A-F]{4,6})")]
    private static partial Regex ClassCode();

    [GeneratedRegex("HDAUDIO.FUNC_01&VEN_([0-9A-F]{4})&DEV_([0-9A-F]{4})&SUBSYS_([0-9A-F]{8})&REV_([0-9A-F]{4})")]
    private static partial Regex Audio();

    [GeneratedRegex("USB.VID_([0-9A-F]{4})&PID_([0-9A-F]{4})")]
    private static partial Regex Usb();

    [GeneratedRegex("HID.VID_([0-9A-F]{4})&PID_([0-9A-F]{4})")]
    private static partial Regex Hid();
}

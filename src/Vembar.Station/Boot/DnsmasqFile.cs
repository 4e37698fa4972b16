using System.Globalization;
using System.Text;
using Vembar.Station.Hosting;

namespace Vembar.Station.Boot;

/// <summary>What dnsmasq is told (its manual, dnsmasq(8)): which machines get addresses, and which boot loader each is handed.</summary>
public static class DnsmasqFile
{
    /// <summary>The file in which dnsmasq says which process it is.</summary>
    public const string ProcessFile = "dnsmasq.pid";

    /// <summary>For machines with a BIOS: iPXE, which then asks for a script.</summary>
    public const string BiosLoader = "undionly.kpxe";

    /// <summary>For machines with UEFI, also with secure boot: shim, which looks for the signed GRUB beside it.</summary>
    public const string UefiLoader = "shimx64.efi";

    /// <summary>For machines with UEFI without secure boot, and for those whose firmware fetches by HTTP: the signed GRUB asks for its
    /// files where the address came from, by TFTP alone.</summary>
    public const string UnsignedUefiLoader = "ipxe.efi";

    /// <summary>The file for a station.</summary>
    /// <param name="boot">How machines start.</param>
    /// <param name="tftp">The folder with the boot loaders.</param>
    /// <param name="state">The folder for what dnsmasq keeps.</param>
    public static string Make(BootOptions boot, string tftp, string state)
    {
        var text = new StringBuilder();
        void Line(FormattableString line) => text.Append(line.ToString(CultureInfo.InvariantCulture)).Append('\n');
        var files = string.Create(CultureInfo.InvariantCulture, $"http://{boot.Address}:{boot.Port}/boot");
        var uefi = boot.Signed ? UefiLoader : UnsignedUefiLoader;
        var script = $"{files}/start.ipxe";
        // No names, and at this interface alone.
        Line($"port=0");
        Line($"no-resolv");
        Line($"no-hosts");
        Line($"interface={boot.Interface}");
        Line($"bind-interfaces");
        Line($"log-dhcp");
        Line($"enable-tftp");
        Line($"tftp-root={tftp}");
        Line($"tftp-no-fail");
        Line($"pid-file={Path.Combine(state, ProcessFile)}");
        Line($"dhcp-leasefile={Path.Combine(state, "leases")}");
        // RFC 4578: the kind of firmware; option 175 is iPXE's own.
        Line($"dhcp-match=set:ipxe,175");
        Line($"dhcp-match=set:bios,option:client-arch,0");
        Line($"dhcp-match=set:uefi,option:client-arch,7");
        Line($"dhcp-match=set:uefi,option:client-arch,9");
        if (boot is { Mode: BootMode.Full, Range: var (first, last) })
        {
            Line($"dhcp-authoritative");
            Line($"dhcp-range={first},{last},1h");
            Line($"dhcp-boot=tag:bios,tag:!ipxe,{BiosLoader}");
            Line($"dhcp-boot=tag:uefi,tag:!ipxe,{uefi}");
            // UEFI 2.5, HTTP boot: such firmware takes only an answer that says so.
            Line($"dhcp-match=set:http,option:client-arch,16");
            Line($"dhcp-option-force=tag:http,tag:!ipxe,60,HTTPClient");
            Line($"dhcp-boot=tag:http,tag:!ipxe,{files}/loaders/{UnsignedUefiLoader}");
        }
        else
        {
            Line($"dhcp-range={boot.Address},proxy");
            Line($"pxe-prompt=\"Vembar\",0");
            Line($"pxe-service=tag:!ipxe,x86PC,\"Vembar\",{BiosLoader}");
            Line($"pxe-service=tag:!ipxe,X86-64_EFI,\"Vembar\",{uefi}");
            Line($"pxe-service=tag:!ipxe,BC_EFI,\"Vembar\",{uefi}");
            Line($"pxe-service=tag:ipxe,x86PC,\"Vembar\",{script}");
        }
        Line($"dhcp-boot=tag:ipxe,{script}");
        return text.ToString();
    }
}

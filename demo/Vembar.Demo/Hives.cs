using System.Buffers.Binary;
using System.Globalization;
using Vembar.Windows.Registry;

namespace Vembar.Demo;

/// <summary>The registry hives of the demo's installs.</summary>
internal static class Hives
{
    private static byte[] Make(string root, Action<RegistryHive> fill)
    {
        // The demo is the same every day.
        var hive = RegistryHive.Open(RegistryHive.NewEmpty(root), write: true, root, DemoWorld.Epoch);
        fill(hive);
        return hive.ToBytes();
    }

    /// <summary>A hive with something else in it.</summary>
    public static byte[] Changed(byte[] bytes, string name, Action<RegistryKey> change)
    {
        var hive = RegistryHive.Open(bytes, write: true, name, DemoWorld.Epoch);
        change(hive.Root);
        return hive.ToBytes();
    }

    /// <summary>Sets the checksum of a hive's first block.</summary>
    public static void Seal(byte[] hive)
    {
        uint sum = 0;
        for (var i = 0; i < 508; i += 4)
            sum ^= BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(i));
        BinaryPrimitives.WriteUInt32LittleEndian(hive.AsSpan(508), sum);
    }

    public static byte[] System(DemoEdition edition) => Make("SYSTEM", hive =>
    {
        var root = hive.Root;
        var select = root.Ensure("Select");
        foreach (var (name, value) in new[] { ("Current", 1u), ("Default", 1u), ("Failed", 0u), ("LastKnownGood", 1u) })
            select.SetDword(name, value);
        var control = root.Ensure(@"ControlSet001\Control");
        control.Ensure(@"Session Manager\Environment").SetString("PROCESSOR_ARCHITECTURE", "AMD64");
        control.Ensure(@"ComputerName\ComputerName").SetString("ComputerName", edition.ComputerName);
        control.Ensure(@"Nls\Language").SetString("InstallLanguage", "0809");
        control.Ensure(@"Nls\Language").SetString("Default", "0809");
        control.Ensure(@"Nls\Locale").SetString("", "00000809");
        foreach (var (name, value) in new[] { ("ACP", "1252"), ("OEMCP", "850") })
            control.Ensure(@"Nls\CodePage").SetString(name, value);
        control.Ensure("TimeZoneInformation").SetString("TimeZoneKeyName", "UTC");
        foreach (var language in edition.Languages)
            control.Ensure($@"MUI\UILanguages\{language}").SetDword("Type", 0x91);
        var setup = root.Ensure("Setup");
        setup.SetDword("SystemSetupInProgress", 1);
        setup.SetDword("SetupType", 2);
        setup.SetString("CmdLine", @"oobe\windeploy.exe");
        var status = setup.Ensure(@"Status\SysprepStatus");
        status.SetDword("GeneralizationState", 7);
        status.SetDword("CleanupState", 2);

        var services = root.Ensure(@"ControlSet001\Services");
        var tcpip = services.Ensure(@"Tcpip\Parameters");
        tcpip.SetString("Hostname", edition.ComputerName);
        tcpip.SetString("NV Hostname", edition.ComputerName);
        tcpip.SetString("Domain", "");
        foreach (var (name, type, start, image, group) in (ReadOnlySpan<(string, uint, uint, string, string)>)
        [
            ("disk", 1, 0, @"System32\drivers\disk.sys", ""), ("storahci", 1, 0, @"System32\drivers\storahci.sys", "SCSI Miniport"),
            ("cdrom", 1, 1, @"System32\drivers\cdrom.sys", "SCSI CDROM Class"),
            ("Ntfs", 2, 0, @"System32\drivers\ntfs.sys", "Boot File System"),
            ("Tcpip", 1, 0, @"System32\drivers\tcpip.sys", "PNP_TDI"),
            ("Spooler", 0x110, 2, @"%SystemRoot%\System32\spoolsv.exe", "SpoolerGroup"),
            ("OakmereCare", 0x10, 2, @"C:\Program Files\Oakmere Care\care.exe", ""),
            ("WMPNetworkSvc", 0x10, 3, @"%ProgramFiles%\Windows Media Player\wmpnetwk.exe", ""),
            ("EventLog", 0x20, 2, @"%SystemRoot%\System32\svchost.exe -k LocalService", "Event Log"),
        ])
        {
            var service = services.Ensure(name);
            service.SetDword("Type", type);
            service.SetDword("Start", start);
            service.SetDword("ErrorControl", 1);
            service.SetString("ImagePath", image, RegistryType.ExpandString);
            if (group.Length > 0)
                service.SetString("Group", group);
        }
        foreach (var part in (string[])["DriverInfFiles", "DriverPackages", "DeviceIds"])
            root.Ensure($@"DriverDatabase\{part}");
        root.Ensure("DriverDatabase").SetDword("Version", 0x0A000000);
        (string Inf, string Class, string[] Ids)[] inbox =
        [
            ("disk.inf", "4d36e967-e325-11ce-bfc1-08002be10318", ["GenDisk"]),
            ("cdrom.inf", "4d36e965-e325-11ce-bfc1-08002be10318", ["GenCdRom"]),
            ("mshdc.inf", "4d36e96a-e325-11ce-bfc1-08002be10318", [@"PCI\CC_0106"]),
            ("keyboard.inf", "4d36e96b-e325-11ce-bfc1-08002be10318", ["*PNP0303", "HID_DEVICE_SYSTEM_KEYBOARD"]),
            ("usbxhci.inf", "36fc9e60-c465-11cf-8056-444553540000", [@"PCI\CC_0C0330"]),
            ("hdaudio.inf", "4d36e96c-e325-11ce-bfc1-08002be10318", [@"HDAUDIO\FUNC_01"]),
            ("input.inf", "745a17a0-74d3-11d0-b6fe-00a0c90f57da", ["HID_DEVICE"]),
        ];
        foreach (var (inf, classId, ids) in inbox)
        {
            var folder = $"{inf}_amd64_{new Filler(inf).Next():x16}";
            root.Ensure($@"DriverDatabase\DriverInfFiles\{inf}").SetString("Active", folder);
            var package = root.Ensure($@"DriverDatabase\DriverPackages\{folder}");
            package.SetString("InfName", inf);
            package.SetString("Provider", "Windows");
            var version = new byte[48];
            new Guid(classId).TryWriteBytes(version.AsSpan(8));
            BitConverter.TryWriteBytes(version.AsSpan(24), new DateTime(2006, 6, 21, 0, 0, 0, DateTimeKind.Utc).ToFileTimeUtc());
            BitConverter.TryWriteBytes(version.AsSpan(32),
                (10ul << 48) | (ulong.Parse(DemoWorld.Build, CultureInfo.InvariantCulture) << 16) | 1);
            package.Set("Version", RegistryType.Binary, version);
            foreach (var id in ids)
                package.Ensure($@"Descriptors\{id}").SetString("Configuration", "Install");
        }
    });

    public static byte[] Software(DemoEdition edition, int scale) => Make("SOFTWARE", hive =>
    {
        var root = hive.Root;
        var version = root.Ensure(@"Microsoft\Windows NT\CurrentVersion");
        // Windows 11 still calls itself 10 here.
        version.SetString("ProductName", "Windows 10 Enterprise");
        version.SetString("EditionID", "Enterprise");
        version.SetString("InstallationType", "Client");
        version.SetString("CurrentBuildNumber", DemoWorld.Build);
        version.SetString("CurrentBuild", DemoWorld.Build);
        version.SetDword("UBR", DemoWorld.Revision);
        version.SetString("DisplayVersion", "24H2");
        version.SetDword("CurrentMajorVersionNumber", 10);
        version.SetDword("CurrentMinorVersionNumber", 0);
        version.SetString("SystemRoot", @"C:\Windows");
        version.SetString("RegisteredOrganization", "Tarn Valley Libraries");
        var profiles = version.Ensure("ProfileList");
        profiles.SetString("Default", @"%SystemDrive%\Users\Default", RegistryType.ExpandString);
        profiles.Ensure("S-1-5-18").SetString("ProfileImagePath", @"%systemroot%\system32\config\systemprofile", RegistryType.ExpandString);
        version.Ensure("Winlogon").SetString("AutoAdminLogon", "0");
        root.Ensure(@"Microsoft\Windows\CurrentVersion\Setup\State").SetString("ImageState", "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE");
        root.Ensure(@"Microsoft\Windows\CurrentVersion").SetString("DevicePath", @"%SystemRoot%\inf", RegistryType.ExpandString);
        root.Ensure(@"Microsoft\Windows\CurrentVersion\Component Based Servicing").SetDword("Version", 1);
        foreach (var program in edition.Programs)
        {
            var key = root.Ensure($@"Microsoft\Windows\CurrentVersion\Uninstall\{program.Key}");
            key.SetString("DisplayName", program.Name);
            key.SetString("DisplayVersion", program.Version);
            key.SetString("Publisher", program.Publisher);
            key.SetString("InstallDate", "20260901");
            key.SetString("InstallLocation", $@"C:\Program Files\Tarn Valley\{program.Name.Split(' ')[0]}");
            key.SetDword("EstimatedSize", (uint)program.SizeInKib);
        }
        Zones(version.Ensure("Time Zones"));
        foreach (var app in ReferenceMaker.Apps)
            root.Ensure($@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications\{app}")
                .SetString("Path", $@"C:\Program Files\WindowsApps\{app}\AppxManifest.xml");
        var care = root.Ensure(@"Microsoft\Windows\CurrentVersion\Uninstall\OakmereCare");
        care.SetString("DisplayName", "Oakmere Care Centre");
        care.SetString("DisplayVersion", "2.4");
        care.SetString("Publisher", "Oakmere");
        const string Task = "{5C2E7A10-0B6D-4A53-9E57-3D1F8A6B2C41}", Cache = @"Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache";
        root.Ensure($@"{Cache}\Tree\Oakmere\Care daily").SetString("Id", Task);
        root.Ensure($@"{Cache}\Tasks\{Task}").SetString("Path", @"\Oakmere\Care daily");
        root.Ensure($@"{Cache}\Plain\{Task}");
        var hidden = root.Ensure(@"Microsoft\Windows\CurrentVersion\Uninstall\TarnRuntime");
        hidden.SetString("DisplayName", "Tarn Valley shared runtime");
        hidden.SetDword("SystemComponent", 1);
        var helper = root.Ensure(@"WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall\PrintHelper");
        helper.SetString("DisplayName", "Label printing helper");
        helper.SetString("DisplayVersion", "1.2");
        helper.SetString("Publisher", "Tarn Valley Libraries");
        var filler = new Filler("classes");
        for (var i = 0; i < 150 * scale; i++)
        {
            // In groups: the library writes a key's whole list of subkeys anew for each that is added, and never reuses the room.
            var name = $"{filler.Name()}.{i}";
            var group = $@"Classes\Group{i / 40}";
            root.Ensure($@"{group}\.{name}").SetString("", $"{name}file");
            root.Ensure($@"{group}\{name}file\shell\open\command").SetString("", $@"""C:\Windows\System32\{filler.Name()}.exe"" ""%1""");
        }
    });

    // Bias in minutes, and when summer and winter time begin: month, weekday, which of them in the month (5 is the last), hour.
    private static void Zones(RegistryKey zones)
    {
        foreach (var (name, displayName, bias, winter, summer) in (ReadOnlySpan<(string, string, int, ushort[]?, ushort[]?)>)
        [
            ("GMT Standard Time", "(UTC+00:00) Dublin, Edinburgh, Lisbon, London", 0, [10, 0, 5, 2], [3, 0, 5, 1]),
            ("UTC", "(UTC) Coordinated Universal Time", 0, null, null),
            ("W. Europe Standard Time", "(UTC+01:00) Amsterdam, Berlin, Bern, Rome, Stockholm, Vienna", -60, [10, 0, 5, 3], [3, 0, 5, 2]),
            ("Eastern Standard Time", "(UTC-05:00) Eastern Time", 300, [11, 0, 1, 2], [3, 0, 2, 2]),
        ])
        {
            var tzi = new byte[44];
            BinaryPrimitives.WriteInt32LittleEndian(tzi, bias);
            if (summer is not null)
                BinaryPrimitives.WriteInt32LittleEndian(tzi.AsSpan(8), -60);
            foreach (var (at, rule) in new[] { (12, winter), (28, summer) })
            {
                for (var i = 0; i < rule?.Length; i++)
                    BinaryPrimitives.WriteUInt16LittleEndian(tzi.AsSpan(at + 2 + 2 * i), rule[i]);
            }
            var key = zones.Ensure(name);
            key.SetString("Display", displayName);
            key.SetString("Std", name);
            key.SetString("Dlt", name.Replace("Standard", "Daylight", StringComparison.Ordinal));
            key.Set("TZI", RegistryType.Binary, tzi);
        }
    }

    public static byte[] Sam() => Make("SAM", hive =>
    {
        foreach (var name in (string[])["Administrator", "DefaultAccount", "Guest"])
            hive.Root.Ensure($@"SAM\Domains\Account\Users\Names\{name}");
    });

    public static byte[] Security() => Make("SECURITY", hive => hive.Root.Ensure(@"Policy\PolAcDmN"));

    public static byte[] User() => Make("NTUSER.DAT", hive =>
    {
        var desktop = hive.Root.Ensure(@"Control Panel\Desktop");
        desktop.SetString("Wallpaper", @"C:\Windows\Web\Wallpaper\valley.jpg");
        hive.Root.Ensure(@"Software\Tarn Valley\Desktop").SetDword("LargeText", 1);
        var formats = hive.Root.Ensure(@"Control Panel\International");
        foreach (var (name, value) in new[] { ("Locale", "00000809"), ("LocaleName", "en-GB"), ("sShortDate", "dd/MM/yyyy"),
            ("sCurrency", "£") })
            formats.SetString(name, value);
        hive.Root.Ensure(@"Keyboard Layout\Preload").SetString("1", "00000809");
    });

    public static byte[] BootTemplate() => Make("BCD00000000", hive =>
    {
        var description = hive.Root.Ensure("Description");
        description.SetString("KeyName", "BCD00000000");
        description.SetDword("System", 1);
        description.SetDword("TreatAsSystem", 1);
        var manager = hive.Root.Ensure(@"Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}");
        manager.Ensure("Description").SetDword("Type", 0x10100002);
        manager.Ensure(@"Elements\12000004").SetString("Element", "Windows Boot Manager");
        manager.Ensure(@"Elements\25000004").Set("Element", RegistryType.Binary, BitConverter.GetBytes(30L));
    });
}

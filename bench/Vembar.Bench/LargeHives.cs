using System.Globalization;
using System.Text;
using Vembar.Windows.Registry;

/// <summary>An install whose hives have the size of real life, and what goes into them.</summary>
internal static class LargeHives
{
    /// <summary>Keys below a class, as programs register themselves, until SOFTWARE has 98 MiB; 60,000 devices in SYSTEM.</summary>
    /// <param name="install">The folder of a demo install.</param>
    public static void Make(string install)
    {
        const long Length = 98 << 20;
        const int Devices = 60_000;
        Change(install, "SOFTWARE", hive =>
        {
            for (var i = 0; hive.Length < Length; i++)
            {
                var id = $"{{{i * 2654435761L & 0xFFFFFFFF:X8}-{i & 0xFFFF:X4}-4D36-8C0D-00A0C90F{i & 0xFFFF:X4}}}";
                var key = hive.Root.Ensure($@"Classes\CLSID\{id}");
                key.SetString("", $"Part {i} of a program");
                key.Ensure("InprocServer32").SetString("", $@"C:\Windows\System32\part{i % 5000}.dll");
                key.Key("InprocServer32")!.SetString("ThreadingModel", "Both");
                key.Ensure("Version").SetString("", "1.0");
            }
        });
        Change(install, "SYSTEM", hive =>
        {
            for (var i = 0; i < Devices; i++)
                hive.Root.Ensure($@"DriverDatabase\DeviceIds\PCI\VEN_{i % 7 + 0x1000:X4}&DEV_{i:X4}")
                    .Set("inbox.inf", RegistryType.Binary, [1, 0xFF, 0, 0]);
        });
    }

    private static void Change(string install, string name, Action<RegistryHive> change)
    {
        var path = Path.Combine(install, "Windows/System32/config", name);
        var hive = RegistryHive.Open(File.ReadAllBytes(path), write: true, name);
        change(hive);
        File.WriteAllBytes(path, hive.ToBytes());
    }

    /// <summary>A .reg file of 20,000 keys with five values each.</summary>
    public static void WriteKeys(string path)
    {
        var text = new StringBuilder("Windows Registry Editor Version 5.00\r\n\r\n");
        for (var i = 0; i < 20_000; i++)
        {
            text.Append(CultureInfo.InvariantCulture,
                $"[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Shelves\\Shelf {i * 7919 % 20_000:00000}]\r\n\"Name\"=\"Shelf "
                + $"{i}\"\r\n\"Room\"=dword:{i % 30:x}\r\n");
            text.Append(CultureInfo.InvariantCulture,
                $"\"Path\"=\"C:\\\\Shelves\\\\{i}\"\r\n\"Seen\"=hex:01,02,03,04,05,06,07,08\r\n\"Open\"=dword:1\r\n\r\n");
        }
        File.WriteAllText(path, text.ToString(), Encoding.Unicode);
    }

    /// <summary>A .reg file that gives sixty values another length each round.</summary>
    public static void WriteRound(string path, int round)
    {
        var text = new StringBuilder("Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Rounds]\r\n");
        for (var i = 0; i < 60; i++)
            text.Append(CultureInfo.InvariantCulture, $"\"v{i}\"=\"{new string('x', 10 + (round * 37 + i * 11) % 200)}\"\r\n");
        File.WriteAllText(path, text.ToString(), Encoding.Unicode);
    }

    /// <summary>A driver package of 1,500 devices.</summary>
    public static void WriteDriver(string folder)
    {
        Directory.CreateDirectory(folder);
        var text = new StringBuilder("""
            [Version]
            Signature="$WINDOWS NT$"
            Class=Display
            ClassGuid={4d36e968-e325-11ce-bfc1-08002be10318}
            Provider=%P%
            DriverVer=09/01/2026,3.1.0.0
            CatalogFile=many.cat
            [Manufacturer]
            %P%=Models,NTamd64
            [Models.NTamd64]

            """);
        for (var i = 0; i < 1500; i++)
            text.Append(CultureInfo.InvariantCulture, $"\"Display {i}\"=Install,PCI\\VEN_1FA0&DEV_{i:X4}&SUBSYS_{i * 3:X4}1FA0\r\n");
        text.Append("""
            [Install.NT]
            CopyFiles=Files
            [Files]
            many.sys
            [Install.NT.Services]
            AddService=many,2,Service
            [Service]
            ServiceType=1
            StartType=3
            ErrorControl=1
            ServiceBinary=%12%\many.sys
            [DestinationDirs]
            Files=12
            [SourceDisksNames]
            1=disk
            [SourceDisksFiles]
            many.sys=1
            [Strings]
            P="Corrin Displays"
            """);
        File.WriteAllText(Path.Combine(folder, "many.inf"), text.ToString());
        File.WriteAllBytes(Path.Combine(folder, "many.sys"), new byte[4096]);
    }
}

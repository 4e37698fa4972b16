using System.Buffers.Binary;
using System.Text;
using Vembar.Volumes.Disks;
using Vembar.Windows.Registry;

namespace Vembar.Demo;

/// <summary>The disk of a desk that was in use for years: a small Windows, and the files of those who worked there.</summary>
public static class OldDesk
{
    /// <summary>The name of the machine.</summary>
    public const string Machine = "TVL-OLD-004";

    // Accounts of the machine itself begin with this; those of the domain with the other.
    private static readonly uint[] s_machine = [2761341019, 1893340177, 3008871246];
    private const string Domain = "S-1-5-21-1004336348-1177238915-682003330";

    /// <summary>Accounts of the domain, and the number that the directory gave each.</summary>
    private static readonly (string Name, int Number, string Guid)[] s_staff =
        [("anna", 1105, "{6d1c9a52-0b1e-4d43-8f0e-51d2b5f3a7c1}"), ("ben", 1131, "{0f7a2c4e-96b8-4c55-a3d1-7be0c9d41e22}")];

    /// <summary>Makes the disk.</summary>
    /// <param name="path">The file to make.</param>
    /// <param name="format">Its format.</param>
    /// <param name="cancellation">Ends it.</param>
    public static void Make(string path, DiskFormat format, CancellationToken cancellation)
    {
        var folder = Directory.CreateTempSubdirectory("vembar-demo-").FullName;
        try
        {
            var output = new DemoWorld.Output(folder);
            Windows(output);
            foreach (var (name, _, _) in s_staff)
                Staff(output, name);
            Reader(output);
            output.SettleFolders();
            ReferenceDisk.Make(folder, 1L << 30, path, format, cancellation);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static void Windows(DemoWorld.Output output)
    {
        var info = new ProgramInfo("ntoskrnl.exe", "System", "Demo operating system", "Demo Systems", new Version(10, 0, 26100, 4061));
        foreach (var path in (string[])["Windows/System32/ntoskrnl.exe", "Windows/Boot/EFI/bootmgfw.efi"])
            output.Write(path, ProgramFile.Make(ProgramFile.Amd64, false, false, 40_000, info, new Filler(path)));
        var edition = new DemoEdition("old-desk", "Old desk", Machine, ["en-GB"], []);
        const string Config = "Windows/System32/config";
        output.Write($"{Config}/SYSTEM", Hives.Changed(Hives.System(edition), "SYSTEM", root =>
        {
            root.Ensure("Setup").SetDword("SystemSetupInProgress", 0);
            root.Ensure("Setup").SetDword("SetupType", 0);
            root.Ensure(@"ControlSet001\Services\Tcpip\Parameters").SetString("Domain", "tarnvalley.example");
        }));
        output.Write($"{Config}/SOFTWARE", Hives.Changed(Hives.Software(edition, 1), "SOFTWARE", root =>
        {
            root.Ensure(@"Microsoft\Windows\CurrentVersion\Setup\State").SetString("ImageState", "IMAGE_STATE_COMPLETE");
            var list = root.Ensure(@"Microsoft\Windows NT\CurrentVersion\ProfileList");
            void Profile(string sid, string name, string? guid)
            {
                var key = list.Ensure(sid);
                key.SetString("ProfileImagePath", $@"C:\Users\{name}", RegistryType.ExpandString);
                if (guid is not null)
                    key.SetString("Guid", guid);
            }
            foreach (var (name, number, guid) in s_staff)
                Profile($"{Domain}-{number}", name, guid);
            Profile($"S-1-5-21-{string.Join('-', s_machine)}-1001", "reader", null);
        }));
        output.Write($"{Config}/SAM", Hives.Changed(Hives.Sam(), "SAM", root =>
        {
            // Of its many fields, the last is the machine's identifier.
            var value = new byte[0x150];
            for (var i = 0; i < s_machine.Length; i++)
                BinaryPrimitives.WriteUInt32LittleEndian(value.AsSpan(value.Length - 12 + 4 * i), s_machine[i]);
            root.Ensure(@"SAM\Domains\Account").Set("V", RegistryType.Binary, value);
        }));
        output.Write($"{Config}/SECURITY", Hives.Security());
        output.Write("Users/Default/NTUSER.DAT", Hives.User());
        output.Folder("Users/Public/Documents");
        output.Folder("ProgramData/Tarn Valley/Logs");
    }

    private static void Noise(DemoWorld.Output output, string path, int bytes) =>
        output.Write(path, Encoding.UTF8.GetBytes(new Filler(path).Text(bytes)));

    private static void Staff(DemoWorld.Output output, string name)
    {
        var home = $"Users/{name}";
        // What somebody synchronises lies in another folder.
        var documents = name == "ben" ? "Valley Cloud/Documents" : "Documents";
        output.Write($"{home}/NTUSER.DAT", Hives.Changed(Hives.User(), "NTUSER.DAT", root =>
        {
            var folders = root.Ensure(@"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders");
            folders.SetString("Personal", $@"%USERPROFILE%\{documents.Replace('/', '\\')}", RegistryType.ExpandString);
            folders.SetString("Desktop", @"%USERPROFILE%\Desktop", RegistryType.ExpandString);
            root.Ensure(@"Software\Tarn Valley\Desktop").SetString("Owner", name);
        }));
        output.Write($"{home}/AppData/Local/Microsoft/Windows/UsrClass.dat", RegistryHive.NewEmpty("UsrClass.dat"));
        for (var number = 1; number <= 6; number++)
            Noise(output, $"{home}/{documents}/Rota {number}.txt", 12_000 + 3_000 * number);
        Noise(output, $"{home}/{documents}/Story hour/Plans for spring.txt", 40_000);
        Noise(output, $"{home}/Desktop/To do.txt", 900);
        Noise(output, $"{home}/Pictures/Branch opening.bmp", 300_000);
        output.Text($"{home}/Favorites/Catalogue.url", "[InternetShortcut]\r\nURL=https://catalogue.tarnvalley.example/\r\n");
        output.Text($"{home}/AppData/Roaming/Quillpad/settings.ini", $"[Quillpad]\r\nname={name}\r\n");
        output.Text($"{home}/AppData/Local/Larkspur/Browser/User Data/Default/Bookmarks", "{ \"roots\": {} }");
        Noise(output, $"{home}/AppData/Local/Larkspur/Browser/User Data/Default/Cache/data_1", 700_000);
        Noise(output, $"{home}/AppData/Local/Temp/unpacked.tmp", 500_000);
    }

    private static void Reader(DemoWorld.Output output)
    {
        output.Write("Users/reader/NTUSER.DAT", Hives.User());
        Noise(output, "Users/reader/Documents/Family tree.txt", 25_000);
        Noise(output, "Users/reader/Desktop/Timetable.txt", 2_000);
        Noise(output, "Users/reader/AppData/Local/Temp/print.tmp", 90_000);
    }
}

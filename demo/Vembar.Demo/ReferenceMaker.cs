using System.Globalization;
using System.Text;

namespace Vembar.Demo;

/// <summary>Makes one reference install: what Windows has, the organisation's programs, and what a capture must leave out.</summary>
internal sealed class ReferenceMaker(DemoWorld.Output output, DemoEdition edition, int scale, CancellationToken cancellation)
{
    private const string Maker = "Demo Systems";
    private static readonly Version s_windows = new(10, 0, 26100, 4061);

    public void Make()
    {
        Components();
        Boot();
        Texts();
        Configuration();
        foreach (var program in edition.Programs)
            Program(program);
        Users();
        Bundled();
        Ballast();
    }

    /// <summary>Apps that came with the machines, by their full names.</summary>
    public static IReadOnlyList<string> Apps { get; } =
        ["Demo.CasualGames_3.2.0.0_x64__9d4m2hpub1a", "Demo.Offers_1.8.5.0_x64__9d4m2hpub1a", "Demo.Calculator_11.0.2.0_x64__9d4m2hpub1a"];

    // What the vendor put there and no library needs.
    private void Bundled()
    {
        foreach (var app in Apps)
        {
            var name = app.Split('_')[0];
            output.Text($"Program Files/WindowsApps/{app}/AppxManifest.xml",
                $"<Package><Identity Name=\"{name}\" Version=\"{app.Split('_')[1]}\" /></Package>\r\n");
            output.Write($"Program Files/WindowsApps/{app}/{name}.dll",
                Dll($"apps/{name}.dll", ProgramFile.Amd64, 150_000, 700_000, "App"));
            output.Text($"ProgramData/Microsoft/Windows/AppRepository/{app}.xml", $"<Package FullName=\"{app}\" />\r\n");
        }
        output.Write("Program Files/Oakmere Care/care.exe", Dll("care/care.exe", ProgramFile.Amd64, 400_000, 900_000, "Care Centre"));
        Noise("Program Files/Oakmere Care/offers.dat", 800_000);
        output.Text("Windows/System32/Tasks/Oakmere/Care daily",
            "<Task><Actions><Exec><Command>C:\\Program Files\\Oakmere Care\\care.exe</Command></Exec></Actions></Task>\r\n");
        output.Text("Users/Public/Desktop/Oakmere offers.url", "[InternetShortcut]\r\nURL=https://offers.oakmere.example/\r\n");
    }

    private static byte[] Dll(string path, ushort machine, int least, int max, string kind)
    {
        // Made from the path alone, so that every edition gets the same file.
        var filler = new Filler(path);
        var name = path[(path.LastIndexOf('/') + 1)..];
        return ProgramFile.Make(machine, !name.EndsWith(".exe", StringComparison.Ordinal), name.EndsWith(".sys", StringComparison.Ordinal),
            filler.Size(least, max),
            new ProgramInfo(name, $"{kind} {name}", "Demo operating system", Maker, s_windows), filler);
    }

    // Most files of System32 are second names of files in the component store.
    private void Components()
    {
        var names = new Filler("components");
        for (var i = 0; i < 230 * scale; i++)
        {
            cancellation.ThrowIfCancellationRequested();
            var name = $"{names.Name()}{i.ToString(CultureInfo.InvariantCulture)}";
            var file = $"{name}.{(i % 9 == 0 ? "exe" : "dll")}";
            var component = $"amd64_demo-{name}_31bf3856ad364e35_10.0.26100.4061_none_{new Filler(name).Next():x16}";
            var stored = $"Windows/WinSxS/{component}/{file}";
            output.Write(stored, Dll($"component/{file}", ProgramFile.Amd64, 6_000, 260_000, "Component"));
            output.Link($"Windows/System32/{file}", stored);
            if (i % 2 == 0)
                output.Text($"Windows/WinSxS/Manifests/{component}.manifest", Manifest(name, file));
            if (i % 3 == 0)
            {
                foreach (var language in edition.Languages)
                    output.Write($"Windows/System32/{language}/{file}.mui",
                        Dll($"mui/{language}/{file}", ProgramFile.Amd64, 3_000, 12_000, "Texts"));
            }
            // Some older versions stay in the store until they are tidied away.
            if (i % 12 == 0)
                output.Write($"Windows/WinSxS/{component.Replace("4061", "1742", StringComparison.Ordinal)}/{file}",
                    Variant(Dll($"component/{file}", ProgramFile.Amd64, 6_000, 260_000, "Component"), name));
            if (i % 4 == 0)
                output.Write($"Windows/SysWOW64/{file}", Dll($"wow/{file}", ProgramFile.X86, 6_000, 90_000, "32-bit component"));
        }
        output.Write("Windows/System32/ntoskrnl.exe", Dll("ntoskrnl.exe", ProgramFile.Amd64, 900_000, 900_001, "Kernel"));
        foreach (var driver in (string[])["disk", "storahci", "cdrom", "ntfs", "tcpip", "hidusb", "usbhub3", "kbdhid", "mouhid", "ndis"])
            output.Write($"Windows/System32/drivers/{driver}.sys",
                Dll($"drivers/{driver}.sys", ProgramFile.Amd64, 20_000, 300_000, "Driver"));
        for (var i = 0; i < 20 * scale; i++)
        {
            var name = $"{names.Name()}{i.ToString(CultureInfo.InvariantCulture)}";
            var folder = $"Windows/System32/DriverStore/FileRepository/{name}.inf_amd64_{new Filler(name + ".inf").Next():x16}";
            var inf = InboxInf(name);
            output.Text($"{folder}/{name}.inf", inf);
            output.Text($"Windows/INF/{name}.inf", inf);
            output.Write($"{folder}/{name}.sys", Dll($"inbox/{name}.sys", ProgramFile.Amd64, 12_000, 120_000, "Inbox driver"));
        }
    }

    // The same program a version earlier: a few stretches differ.
    private static byte[] Variant(byte[] bytes, string seed)
    {
        var filler = new Filler(seed + "/earlier");
        for (var i = 0; i < 6; i++)
            filler.Noise(bytes.AsSpan(0x400 + filler.Below(bytes.Length - 0x480), 64));
        return bytes;
    }

    private static string Manifest(string name, string file) =>
        $"<?xml version=\"1.0\" encoding=\"utf-8\" standalone=\"yes\"?>\r\n<assembly xmlns=\"urn:schemas-microsoft-com:asm.v3\" "
        + $"manifestVersion=\"1.0\">\r\n"
        + $"  <assemblyIdentity name=\"Demo-{name}\" version=\"10.0.26100.4061\" processorArchitecture=\"amd64\" language=\"neutral\" "
        + $"versionScope=\"nonSxS\" />\r\n"
        + $"  <file name=\"{file}\" destinationPath=\"$(runtime.system32)\\\" importPath=\"$(build.nttree)\\\" />\r\n"
        + $"  <!-- {new Filler(name).Text(600).Replace("--", "", StringComparison.Ordinal)} -->\r\n</assembly>\r\n";

    private static string InboxInf(string name) =>
        $"; {name}\r\n[Version]\r\nSignature=\"$WINDOWS NT$\"\r\nClass=System\r\n"
            + $"ClassGuid={{4d36e97d-e325-11ce-bfc1-08002be10318}}\r\nProvider=\"{Maker}\"\r\nDriverVer=06/21/2006,10.0.26100.1\r\n\r\n"
        + $"[Manufacturer]\r\n\"{Maker}\"=Models,NTamd64\r\n\r\n[Models.NTamd64]\r\n\"{name}\"=Inst,ROOT\\{name}\r\n\r\n"
            + $"[Inst]\r\nCopyFiles=@{name}.sys\r\n\r\n[Inst.Services]\r\nAddService={name},2,Svc\r\n\r\n"
        + $"[Svc]\r\nServiceType=1\r\nStartType=3\r\nErrorControl=1\r\nServiceBinary=%12%\\{name}.sys\r\n"
            + $"\r\n[DestinationDirs]\r\nDefaultDestDir=12\r\n; {new Filler(name + "inf").Text(900).ReplaceLineEndings(" ")}\r\n";

    private void Boot()
    {
        foreach (var file in (string[])["bootmgfw.efi", "memtest.efi", "en-GB/bootmgfw.efi.mui"])
            output.Write($"Windows/Boot/EFI/{file}", Dll($"boot/{file}", ProgramFile.Amd64, 60_000, 500_000, "Boot program"));
        output.Write("Windows/System32/winload.efi", Dll("winload.efi", ProgramFile.Amd64, 300_000, 600_000, "Loader"));
        output.Write("Windows/System32/winload.exe", Dll("winload.exe", ProgramFile.Amd64, 300_000, 600_000, "Loader"));
        Noise("Windows/Boot/PCAT/bootmgr", 120_000);
        foreach (var font in (string[])["chs_boot.ttf", "segmono_boot.ttf", "wgl4_boot.ttf"])
            Noise($"Windows/Boot/Fonts/{font}", 40_000);
    }

    private void Noise(string path, int length)
    {
        var bytes = new byte[length];
        new Filler(path).Noise(bytes);
        output.Write(path, bytes);
    }

    private void Texts()
    {
        for (var i = 0; i < 8 * scale; i++)
            Noise($"Windows/Fonts/valley{i.ToString(CultureInfo.InvariantCulture)}.ttf", 30_000 + new Filler($"font{i}").Below(200_000));
        for (var i = 0; i < 60 * scale; i++)
        {
            var filler = new Filler($"help{i}");
            output.Text($"Windows/Help/{filler.Name()}{i.ToString(CultureInfo.InvariantCulture)}.htm",
                $"<html><body><h1>{filler.Name()}</h1>\r\n<p>{filler.Text(filler.Size(800, 30_000))}</p></body></html>\r\n");
        }
        Noise("Windows/Web/Wallpaper/valley.jpg", 600_000);
        output.Text("Windows/Panther/setupact.log", new Filler("setupact").Text(120_000));
    }

    private void Configuration()
    {
        const string Folder = "Windows/System32/config";
        output.Write($"{Folder}/SYSTEM", Hives.System(edition));
        output.Write($"{Folder}/SOFTWARE", Hives.Software(edition, Math.Min(scale, 20)));
        output.Write($"{Folder}/SAM", Hives.Sam());
        output.Write($"{Folder}/SECURITY", Hives.Security());
        output.Write($"{Folder}/DEFAULT", Hives.User());
        output.Write($"{Folder}/BCD-Template", Hives.BootTemplate());
        output.Text("Windows/Setup/State/State.ini", "[State]\r\nImageState=IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE\r\n");
    }

    private void Program(DemoProgram program)
    {
        var folder = $"Program Files/Tarn Valley/{program.Key}";
        var names = new Filler(program.Key);
        var main = program.Key.ToLowerInvariant();
        void Part(string file, int least, int max) => output.Write($"{folder}/{file}", ProgramFile.Make(
            ProgramFile.Amd64, !file.EndsWith(".exe", StringComparison.Ordinal), false, new Filler(folder + file).Size(least, max),
            new ProgramInfo(file, program.Name, program.Name, program.Publisher,
            Version.Parse(program.Version.Count(c => c == '.') < 2 ? program.Version + ".0" : program.Version)),
            new Filler(folder + file)));
        Part($"{main}.exe", 300_000, 1_500_000);
        for (var i = 0; i < program.SizeInKib / 400; i++)
            Part($"{main}{names.Name()}{i.ToString(CultureInfo.InvariantCulture)}.dll", 20_000, 400_000);
        for (var i = 0; i < 12; i++)
            output.Text($"{folder}/help/{names.Name()}{i.ToString(CultureInfo.InvariantCulture)}.txt",
                new Filler($"{folder}/help{i}").Text(4_000 + 1_000 * i));
        Noise($"{folder}/data/catalogue.idx", 700_000);
        output.Text($"{folder}/{main}.ini", $"[{program.Name}]\r\nserver=catalogue.tarnvalley.example\r\nbranch=\r\n");
    }

    private void Users()
    {
        output.Write("Users/Default/NTUSER.DAT", Hives.User());
        output.Text("Users/Default/Desktop/desktop.ini", "[.ShellClassInfo]\r\n");
        output.Text("Users/Public/Documents/Welcome.txt", $"Welcome to {edition.Title} at Tarn Valley Libraries.\r\n");
        output.Text("Users/Public/Documents/Staff handbook.txt", new Filler("handbook").Text(30_000));
        output.Folder("ProgramData/Tarn Valley/Logs");
        output.Folder("Windows/Temp");
    }

    // What Windows makes anew: a capture leaves it out.
    private void Ballast()
    {
        output.Hollow("pagefile.sys", 64L << 20);
        output.Hollow("swapfile.sys", 16L << 20);
        Noise("Windows/Temp/setup-remains.tmp", 400_000);
        output.Text("Windows/Temp/install.log", new Filler("temp").Text(60_000));
        Noise("Users/Default/AppData/Local/Temp/unpacked.bin", 300_000);
        Noise("Windows/SoftwareDistribution/Download/0c71a2/update.bin", 900_000);
        Noise("Windows/Prefetch/SHELFMARK.EXE-1A2B3C4D.pf", 20_000);
        Noise("$Recycle.Bin/S-1-5-18/$R7Q2K9.txt", 5_000);
        output.Write("System Volume Information/tracking.log", Encoding.ASCII.GetBytes(new string('t', 20_480)));
    }
}

using System.IO.Compression;
using System.Reflection;
using System.Text;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Demo;

/// <summary>
/// The made-up world of the demo: Tarn Valley Libraries, with three generalized reference installs, driver packages,
/// answer files and work orders. Made into a folder, always the same for the same scale.
/// </summary>
public static class DemoWorld
{
    internal const string Build = "26100";
    internal const uint Revision = 4061;

    /// <summary>When the demo's world was made.</summary>
    internal static DateTime Epoch { get; } = new(2026, 9, 1, 6, 0, 0, DateTimeKind.Utc);

    private static readonly DemoProgram s_shelfmark =
        new("Shelfmark", "Shelfmark Lending Client", "7.3.1", "Tarn Valley Libraries", 21_400);
    private static readonly DemoProgram s_quillpad = new("Quillpad", "Quillpad", "4.0.12", "Quillpad Makers", 8_900);
    private static readonly DemoProgram s_lanternview =
        new("Lanternview", "Lanternview Document Viewer", "2.6", "Lanternview Makers", 5_300);

    private static readonly DemoEdition[] s_editions =
    [
        new("lending-desk", "Lending desk", "WIN-7Q2K9LDTARN", ["en-GB"], [s_shelfmark, s_quillpad]),
        new("reading-room", "Reading room", "WIN-3M8R4RRTARN", ["en-GB", "cy-GB"], [s_quillpad, s_lanternview]),
        new("bookmobile", "Bookmobile", "WIN-5B1V6BMTARN", ["en-GB"], [s_shelfmark, s_quillpad, s_lanternview]),
    ];

    /// <summary>Names of the reference installs: folder below "references" and title.</summary>
    public static IReadOnlyList<(string Folder, string Title)> References => [.. s_editions.Select(e => (e.Folder, e.Title))];

    /// <summary>Makes the whole world.</summary>
    /// <param name="folder">A folder that does not exist or is empty.</param>
    /// <param name="scale">1 for about 1,000 files an install; each step as many again.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>Files and bytes made.</returns>
    public static (long Files, long Bytes) Make(string folder, int scale, CancellationToken cancellation)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(scale, 1);
        var files = 0L;
        var bytes = 0L;
        var made = Directory.CreateDirectory(folder).FullName;
        foreach (var (files1, bytes1) in s_editions.AsParallel().WithCancellation(cancellation)
            .Select(e => MakeReference(made, e, scale, cancellation)))
        {
            files += files1;
            bytes += bytes1;
        }
        var kit = MakeKit(made);
        return (files + kit.Files, bytes + kit.Bytes);
    }

    /// <summary>The spoiled references: names below "spoiled", and the readiness check that finds each.</summary>
    public static IReadOnlyList<(string Name, string Check)> Spoiled => SpoiledDisks.All;

    /// <summary>Puts the references onto virtual disks, and makes the spoiled ones.</summary>
    /// <param name="folder">A folder with the world.</param>
    /// <param name="cancellation">Ends it.</param>
    public static void MakeDisks(string folder, CancellationToken cancellation)
    {
        foreach (var edition in s_editions)
        {
            var reference = Path.Combine(folder, "references", edition.Folder);
            var bytes = new DirectoryInfo(reference).EnumerateFiles("*", SearchOption.AllDirectories)
                .Where(f => !f.Name.EndsWith("file.sys", StringComparison.Ordinal)).Sum(f => f.Length);
            ReferenceDisk.Make(reference, bytes, Path.Combine(folder, "disks", $"{edition.Folder}.vhdx"), DiskFormat.Vhdx,
                cancellation);
        }
        OldDesk.Make(Path.Combine(folder, "disks", "old-desk.vhdx"), DiskFormat.Vhdx, cancellation);
        SpoiledDisks.Make(Path.Combine(folder, "disks", $"{s_editions[0].Folder}.vhdx"), Path.Combine(folder, "spoiled"));
    }

    /// <summary>Makes the driver packages, answer files, work orders and house files alone.</summary>
    public static (long Files, long Bytes) MakeKit(string folder)
    {
        var output = new Output(folder);
        var assembly = Assembly.GetExecutingAssembly();
        const string Prefix = "world/";
        foreach (var name in assembly.GetManifestResourceNames().Where(n => n.StartsWith(Prefix, StringComparison.Ordinal))
            .Order(StringComparer.Ordinal))
        {
            using var stream = assembly.GetManifestResourceStream(name)!;
            var bytes = new byte[stream.Length];
            stream.ReadExactly(bytes);
            output.Write(name[Prefix.Length..].Replace('\\', '/'), bytes);
        }
        MakeDriver(output, "corrin-storage", "corstor",
            ("x64/corstor.sys", ProgramFile.Amd64, "Corrin Silicon storage controller driver", new Version(4, 2, 118, 0)));
        MakeDriver(output, "corrin-network", "cornet",
            ("x64/cornet.sys", ProgramFile.Amd64, "Corrin Silicon network adapter driver", new Version(2, 10, 3, 7)),
            ("arm64/cornet.sys", ProgramFile.Arm64, "Corrin Silicon network adapter driver", new Version(2, 10, 3, 7)));
        output.Write("drivers/brightwell-audio/rooms/kiosk.eqp", Encoding.ASCII.GetBytes("bass=2\r\nspeech=4\r\n"));
        MakeDriver(output, "brightwell-audio", "bwaudio",
            ("bwaudio.sys", ProgramFile.Amd64, "Brightwell B2 audio driver", new Version(6, 0, 1, 9920)),
            ("tools/bwequal.dll", ProgramFile.Amd64, "Brightwell equaliser", new Version(6, 0, 1, 9920)));
        MakeDriver(output, "pell-barcode", "pellscan",
            ("pellscan.dll", ProgramFile.Amd64, "Pell L7 barcode reader driver", new Version(1, 4, 0, 21)));
        MakeDriver(output, "corrin-wireless", "corwlan",
            ("x64/corwlan.sys", ProgramFile.Amd64, "Corrin Silicon wireless adapter driver", new Version(1, 9, 0, 44)));
        MakeDriver(output, "corrin-network-2.9", "cornet",
            ("x64/cornet.sys", ProgramFile.Amd64, "Corrin Silicon network adapter driver", new Version(2, 9, 1, 0)));
        MakeDriver(output, "fellside-wireless", "t2wlan");
        foreach (var name in (string[])["corrin-wireless", "corrin-network-2.9", "fellside-wireless"])
            output.Pack($"drivers/{name}", $"more-drivers/{name}.zip");
        MakePackage(output, "shelfmark-7.4", ("client/shelfmark.exe", "Shelfmark Lending Client"),
            ("client/shelfmarkcore.dll", "Shelfmark core"), ("labels/labels.dll", "Shelfmark spine labels"));
        MakePackage(output, "kiosk-tools-1.0", ("service/kiosk.exe", "Tarn Valley kiosk reset"));
        MakePackage(output, "house-settings-1.0");
        MakePackage(output, "polish-1.0", ("texts/shell32.dll.mui", "Texts in Polish"), ("texts/control.dll.mui", "Texts in Polish"));
        MakePackage(output, "lanternview-2.6.1", ("viewer/lanternview.exe", "Lanternview Document Viewer 2.6.1"));
        MakePackage(output, "lanternview-2.7", ("viewer/lanternview.exe", "Lanternview Document Viewer 2.7"),
            ("scores/scores.dll", "Lanternview sheet music"));
        output.Write("house/branding/lanterns.bmp", Picture(320, 200));
        output.Write("trust/fellview-root.pem", Encoding.ASCII.GetBytes(Signing.Root.ExportCertificatePem() + "\n"));
        output.SettleFolders();
        return (output.Files, output.Bytes);
    }

    // A picture with a sky that grows darker: 24 bits a point, rows from the bottom up.
    private static byte[] Picture(int width, int height)
    {
        const int Header = 54;
        var bytes = new byte[Header + width * height * 3];
        "BM"u8.CopyTo(bytes);
        foreach (var (at, value) in (ReadOnlySpan<(int, int)>)[(2, bytes.Length), (10, Header), (14, 40), (18, width), (22, height),
            (26, 1 | (24 << 16)), (34, bytes.Length - Header)])
            BitConverter.TryWriteBytes(bytes.AsSpan(at), value);
        for (var y = 0; y < height; y++)
        {
            for (var x = 0; x < width; x++)
            {
                var at = Header + (y * width + x) * 3;
                (bytes[at], bytes[at + 1], bytes[at + 2]) = ((byte)(200 - y / 2), (byte)(140 - y / 2), (byte)(60 + x / 8));
            }
        }
        return bytes;
    }

    private static void MakePackage(Output output, string name, params (string Path, string Description)[] programs)
    {
        foreach (var (path, description) in programs)
        {
            var filler = new Filler($"{name}/{path}");
            var info = new ProgramInfo(Path.GetFileName(path), description, description, "Tarn Valley Libraries", new Version(7, 4, 0, 0));
            output.Write($"packages/{name}/{path}", ProgramFile.Make(ProgramFile.Amd64, path.EndsWith(".dll", StringComparison.Ordinal),
                false, 30_000 + filler.Below(60_000), info, filler));
        }
        Package.Make(Path.Combine(output.Root, "packages", name), Path.Combine(output.Root, "packages", $"{name}.zip"));
        File.SetLastWriteTimeUtc(Path.Combine(output.Root, "packages", $"{name}.zip"), Epoch);
    }

    private static void MakeDriver(Output output, string folder, string name,
        params (string Path, ushort Machine, string Description, Version Version)[] programs)
    {
        foreach (var (path, machine, description, version) in programs)
        {
            var filler = new Filler($"{folder}/{path}");
            var info = new ProgramInfo(Path.GetFileName(path), description, description, description.Split(' ')[0], version);
            output.Write($"drivers/{folder}/{path}", ProgramFile.Make(machine, path.EndsWith(".dll", StringComparison.Ordinal),
                path.EndsWith(".sys", StringComparison.Ordinal), 40_000 + filler.Below(90_000), info, filler));
        }
        var members = Directory.EnumerateFiles(Path.Combine(output.Root, "drivers", folder), "*", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal).Select(File.ReadAllBytes);
        output.Write($"drivers/{folder}/{name}.cat", Catalog.Make(name, Epoch, members.ToList()));
    }

    private static (long, long) MakeReference(string world, DemoEdition edition, int scale, CancellationToken cancellation)
    {
        var output = new Output(Path.Combine(world, "references", edition.Folder));
        var maker = new ReferenceMaker(output, edition, scale, cancellation);
        maker.Make();
        output.SettleFolders();
        return (output.Files, output.Bytes);
    }

    /// <summary>Writes files with the demo's times.</summary>
    internal sealed class Output(string root)
    {
        private readonly HashSet<string> _folders = [];

        public string Root { get; } = Directory.CreateDirectory(root).FullName;
        public long Files { get; private set; }
        public long Bytes { get; private set; }

        private string Place(string path)
        {
            var full = Path.Combine(Root, path);
            var folder = Path.GetDirectoryName(full)!;
            if (_folders.Add(folder))
            {
                Directory.CreateDirectory(folder);
                for (var up = folder; up.Length > Root.Length; up = Path.GetDirectoryName(up)!)
                    _folders.Add(up);
            }
            return full;
        }

        public void Folder(string path) => Place(path + "/x");

        public void Write(string path, ReadOnlySpan<byte> bytes)
        {
            var full = Place(path);
            File.WriteAllBytes(full, bytes);
            File.SetLastWriteTimeUtc(full, TimeOf(path));
            Files++;
            Bytes += bytes.Length;
        }

        public void Text(string path, string text) => Write(path, Encoding.UTF8.GetBytes(text));

        /// <summary>A second name for a file that was written before.</summary>
        public void Link(string path, string of)
        {
            var errno = Posix.TryHardLink(null, PosixName.Encode(Path.Combine(Root, of)), null, PosixName.Encode(Place(path)));
            if (errno != 0)
                throw new NativeException("make the hard link", path, errno);
            Files++;
        }

        /// <summary>Puts a folder's files into a zip file, and takes the folder away.</summary>
        public void Pack(string folder, string zip)
        {
            var from = Path.Combine(Root, folder);
            using (var archive = ZipFile.Open(Place(zip), ZipArchiveMode.Create))
            {
                foreach (var file in Directory.EnumerateFiles(from, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
                {
                    var entry = archive.CreateEntry(Path.GetRelativePath(from, file));
                    entry.LastWriteTime = Epoch;
                    using var to = entry.Open();
                    var bytes = File.ReadAllBytes(file);
                    to.Write(bytes);
                    Files--;
                    Bytes -= bytes.Length;
                }
            }
            Directory.Delete(from, recursive: true);
            _folders.RemoveWhere(f => f == from || f.StartsWith(from + "/", StringComparison.Ordinal));
            var made = new FileInfo(Path.Combine(Root, zip));
            made.LastWriteTimeUtc = TimeOf(zip);
            Files++;
            Bytes += made.Length;
        }

        /// <summary>A file of a length that holds nothing.</summary>
        public void Hollow(string path, long length)
        {
            var full = Place(path);
            using (var file = File.Create(full))
                file.SetLength(length);
            File.SetLastWriteTimeUtc(full, TimeOf(path));
            Files++;
        }

        public void SettleFolders()
        {
            foreach (var folder in _folders.OrderByDescending(f => f.Length))
                Directory.SetLastWriteTimeUtc(folder, Epoch);
            Directory.SetLastWriteTimeUtc(Root, Epoch);
        }

        private static DateTime TimeOf(string path) =>
            Epoch.AddSeconds(-new Filler(path).Below(300 * 86_400)).AddTicks(new Filler(path + "#").Below(10_000_000));
    }
}

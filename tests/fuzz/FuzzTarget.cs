using System.Diagnostics;
using System.Text;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Orders;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Fuzz;

/// <summary>Something that reads what comes from outside.</summary>
/// <param name="Name">Its name on the command line.</param>
/// <param name="Inputs">Sound inputs to begin with.</param>
/// <param name="Read">Reads one; may refuse it as bad input, and in no other way.</param>
internal sealed record FuzzTarget(string Name, IReadOnlyList<byte[]> Inputs, Action<byte[]> Read)
{
    /// <summary>Where an input is put that is read from a file; it is there while the program runs.</summary>
    public static string ScratchFile { get; } = Path.Combine(Path.GetTempPath(), $"vembar-fuzz-{Environment.ProcessId}");

    // One that needs no files beside it.
    private const string Order =
        "title: October\nvariables:\n  room: reading\nchanges:\n- tidy: [logs, caches]\n- time-zone: GMT Standard Time\n"
        + "- remove: Users/Public/${room}.txt\n  optional: yes\n- mend: all\n";

    private const string RegistryFile =
        "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley]\r\n@=\"x\"\r\n"
        + "\"a\"=dword:1\r\n\"b\"=hex(2):25,00,\\\r\n  41,00\r\n\"c\"=-\r\n[-HKEY_CURRENT_USER\\Software\\Old]\r\n";

    /// <summary>Reads an input.</summary>
    /// <returns>False when it was refused.</returns>
    public bool Try(byte[] input)
    {
        try
        {
            Read(input);
            return true;
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Damaged)
        {
            return false;
        }
    }

    /// <summary>All that there are.</summary>
    /// <param name="project">The project's folder, where kept files are.</param>
    public static IReadOnlyList<FuzzTarget> All(string project)
    {
        IReadOnlyList<byte[]> Files(string folder, string pattern) =>
            [.. Directory.EnumerateFiles(Path.Combine(project, folder), pattern, SearchOption.AllDirectories).Order(StringComparer.Ordinal)
                .Select(File.ReadAllBytes)];
        IReadOnlyList<byte[]> Texts(params string[] texts) => [.. texts.Select(Encoding.UTF8.GetBytes)];
        string Scratch(byte[] bytes)
        {
            File.WriteAllBytes(ScratchFile, bytes);
            return ScratchFile;
        }
        return
        [
            new("hive", Files("tests/Vembar.Tests/Corpus/hives", "*.hive"),
            bytes => Walk(RegistryHive.Open(bytes, write: false, "hive").Root)),
            new("hive-change", Files("tests/Vembar.Tests/Corpus/hives", "*.hive"),
            bytes => Change(RegistryHive.Open(bytes, write: true, "hive"))),
            new("inf", Files("tests/Vembar.Tests/Corpus/inf", "*.inf"), bytes => InfFile.Parse(bytes, "inf").Line("Version", "Class")),
            new("reg", Files("demo/world", "*.reg").Concat(Texts(RegistryFile)).ToList(), bytes => RegFile.Parse(bytes, "reg")),
            new("answers", Files("demo/world/answers", "*.xml"), bytes => AnswerFile.Parse(bytes, "answers").Check("x64")),
            new("order", [.. Files("demo/world/orders", "*.yaml"), .. Texts(Order)], bytes => WorkOrder.Read(Scratch(bytes))),
            new("package", Files("demo/world/packages", "*.yaml"),
            bytes => PackageManifest.Parse(Encoding.UTF8.GetString(bytes), "package")),
            new("security", Texts("O:BAG:SYD:PAI(A;OICI;FA;;;SY)(A;;0x1200a9;;;BU)S:(AU;SA;FA;;;WD)", "D:(A;CI;KA;;;S-1-5-32-544)"),
                bytes => SecurityText.Parse(Encoding.UTF8.GetString(bytes), out _)),
            new("container", Containers(),
            bytes => DiskImage.Check(Scratch(bytes), new DiskReading(AcceptDamaged: true))),
            new("archive", Files("tests/archives", "*.vmb"), bytes => Look(Scratch(bytes))),
        ];
    }

    // Small disk images of each format, with and without compression, as qemu-img(1) makes them.
    private static List<byte[]> Containers()
    {
        var images = new List<byte[]>();
        var folder = Directory.CreateTempSubdirectory("vembar-fuzz-").FullName;
        try
        {
            var content = new byte[1 << 20];
            new Random(1).NextBytes(content.AsSpan(0, 300_000));
            File.WriteAllBytes($"{folder}/raw", content);
            foreach (var options in (string[])["-O qcow2", "-O qcow2 -c", "-O qcow2 -o extended_l2=on", "-O vmdk",
                "-O vmdk -o subformat=streamOptimized", "-O vpc", "-O vpc -o subformat=fixed", "-O vhdx -o block_size=1M", "-O vdi"])
            {
                using var made = Process.Start("qemu-img", ["convert", "-q", "-f", "raw", .. options.Split(' '), $"{folder}/raw",
                    $"{folder}/image"]);
                made.WaitForExit();
                images.Add(File.ReadAllBytes($"{folder}/image"));
            }
            // What names other files: of this machine, of a server, itself.
            foreach (var name in (string[])["/etc/passwd", "../image", "nbd://127.0.0.1:1", "json:{}", "image", "raw"])
            {
                using var made = Process.Start("qemu-img", ["create", "-q", "-u", "-f", "qcow2", "-F", "raw", "-b", name, $"{folder}/image",
                    "1M"]);
                made.WaitForExit();
                images.Add(File.ReadAllBytes($"{folder}/image"));
                images.Add(Encoding.ASCII.GetBytes("# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\n"
                    + $"createType=\"monolithicFlat\"\n# Extent description\nRW 2048 FLAT \"{name}\" 0\nRW 8 SPARSE \"{name}\"\n"
                    + $"parentFileNameHint=\"{name}\"\n"));
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
        return images;
    }

    private static void Walk(RegistryKey key)
    {
        _ = (key.Name, key.Values.Count);
        foreach (var below in key.Subkeys)
            Walk(below);
    }

    // What is taken for sound stays so when it is changed.
    private static void Change(RegistryHive hive)
    {
        hive.Root.Ensure(@"Added\Below").SetString("Name", "Value");
        foreach (var key in hive.Root.Subkeys.Take(2))
            key.Delete();
        Walk(RegistryHive.Open(hive.ToBytes(), write: true, "hive").Root);
    }

    private static void Look(string path)
    {
        using var archive = ArchiveReader.Open(new ArchiveLocation(path, []));
        foreach (var image in archive.Images)
        {
            var tree = new ImageTree(archive, image.Root, "archive");
            foreach (var (at, entry) in tree.Walk(tree.Root, Images.Paths.WindowsPath.Root).Take(10_000))
            {
                if (entry.Content is { Length: < 1 << 20 } content)
                    tree.ReadAll(content, at, 1 << 20);
            }
        }
    }
}

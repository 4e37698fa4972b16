using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Xunit;

namespace Vembar.Tests;

public class HiveTests(DemoFixture demo)
{
    [Fact]
    public void OurEmptyHiveIsReadByOtherReaders()
    {
        using var folder = new TempFolder();
        var path = folder.Write("hive", RegistryHive.NewEmpty("TESTROOT"));
        Assert.Contains("Windows registry file", Tools.Run("file", ["-b", path]), StringComparison.OrdinalIgnoreCase);
        Assert.Contains("/,KEY", Tools.Run("reglookup", [path]), StringComparison.Ordinal);
        Tools.Run("regfexport", ["-K", "\\", path]);
        // The rights of the root key: SYSTEM and administrators all, users read.
        Assert.Contains("S-1-5-18", Tools.Run("reglookup", ["-s", path]), StringComparison.Ordinal);
    }

    [Fact]
    public void WhatIsWrittenIsReadByUsAndByOthers()
    {
        using var folder = new TempFolder();
        var hive = RegistryHive.Open(RegistryHive.NewEmpty(), write: true, "test");
        var key = hive.Root.Ensure(@"Software\Köln\Leaf");
        key.SetString("text", "grüße");
        key.SetString("", "default");
        key.SetDword("number", 0xCAFE);
        key.SetStrings("list", ["one", "two"]);
        key.Set("raw", RegistryType.Binary, [1, 2, 3]);
        key.SetString("text", "replaced");
        hive.Root.Ensure("Gone").SetDword("x", 1);
        hive.Key("GONE")!.Delete();
        var bytes = hive.ToBytes();
        hive = RegistryHive.Open(bytes, write: false, "test");
        key = hive.Key(@"software\KÖLN\leaf")!;
        Assert.Equal("replaced", key.GetString("TEXT"));
        Assert.Equal("default", key.GetString(""));
        Assert.Equal(0xCAFEu, key.GetDword("number"));
        Assert.Equal(["one", "two"], key.GetStrings("list")!);
        Assert.Equal([1, 2, 3], key.Get("raw")!.Value.Bytes);
        Assert.Null(key.GetDword("text"));
        Assert.Null(key.GetString("absent"));
        Assert.Null(hive.Key("Gone"));
        Assert.Equal(5, key.Values.Count);
        Assert.Equal("Leaf", key.Name);
        var seen = Tools.Run("reglookup", [folder.Write("hive", bytes)]);
        Assert.Contains("/number,DWORD,0x0000CAFE", seen, StringComparison.Ordinal);
        Assert.Contains("/list,MULTI_SZ,one|two", seen, StringComparison.Ordinal);
        Assert.DoesNotContain("Gone", seen, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(0)]
    [InlineData(100)]
    [InlineData(4096)]
    public void WhatIsNoHiveIsSaidToBeNone(int length)
    {
        var bytes = new byte[length];
        if (length >= 4096)
            "regf"u8.CopyTo(bytes);
        Assert.Equal("bad-hive", Assert.Throws<VembarException>(() => RegistryHive.Open(bytes, false, "thing")).Code);
    }

    [Fact]
    public void DamagedHivesGiveAnErrorAndNothingElse()
    {
        var good = File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32/config/SAM"));
        var random = new Random(21);
        for (var round = 0; round < 300; round++)
        {
            var bytes = good.ToArray();
            for (var i = 0; i < 4; i++)
                bytes[random.Next(bytes.Length)] = (byte)random.Next(256);
            try
            {
                var hive = RegistryHive.Open(bytes, false, "thing");
                Visit(hive.Root, 0);
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Input, problem.Kind);
            }
        }
    }

    private static void Visit(RegistryKey key, int depth)
    {
        _ = key.Values;
        foreach (var child in depth > 20 ? [] : key.Subkeys)
            Visit(child, depth + 1);
    }
}

public class InstallTests(DemoFixture demo)
{
    [Fact]
    public void TheInstallIsReadFromAFolderAndFromAnImageAlike()
    {
        using var source = FolderSource.Open(demo.Reference("reading-room"));
        var install = WindowsInstall.Read(source)!;
        Assert.Equal(("Windows 11 Enterprise", "Enterprise", "26100.4061", "x64"),
            (install.Product, install.Edition, install.Build, install.Architecture));
        Assert.Equal(["cy-GB", "en-GB"], install.Languages);
        Assert.Equal("WIN-3M8R4RRTARN", install.ComputerName);
        Assert.Equal("generalized", install.State);
        using var reader = ArchiveReader.Open(demo.Archive);
        var image = reader.Images[0];
        var tree = new ImageTree(reader, image.Root, "test");
        var other = WindowsInstall.Read(tree)!;
        Assert.Equal((other.Product, other.Build, other.ComputerName), (image.Product, image.Build, image.ComputerName));
    }

    [Fact]
    public void ProgramsAreThoseThatWindowsShows()
    {
        using var source = FolderSource.Open(demo.Reference("lending-desk"));
        var software = WindowsInstall.OpenHive(source, "Windows", "SOFTWARE");
        var programs = InstalledProgram.Read(software);
        Assert.Equal(["Label printing helper", "Oakmere Care Centre", "Quillpad", "Shelfmark Lending Client"],
            programs.Select(p => p.Name));
        Assert.Equal(21_400L * 1024, programs[3].Bytes);
        Assert.Null(programs[0].Bytes);
    }

    [Fact]
    public void AWindowsFolderOfAnotherNameIsFound()
    {
        using var folder = new TempFolder();
        foreach (var file in (string[])["config/SYSTEM", "config/SOFTWARE", "ntoskrnl.exe"])
            folder.Write($"src/WINNT/system32/{file}",
                File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32", file)));
        using var source = FolderSource.Open(folder.At("src"));
        Assert.Equal("WINNT", WindowsInstall.Read(source)!.Folder);
        File.Delete(folder.At("src/WINNT/system32/ntoskrnl.exe"));
        using var without = FolderSource.Open(folder.At("src"));
        Assert.Null(WindowsInstall.Read(without));
    }

    [Fact]
    public void ACaptureOfADamagedInstallSaysSoAndKeepsTheFiles()
    {
        using var folder = new TempFolder();
        foreach (var file in (string[])["config/SYSTEM", "config/SOFTWARE", "ntoskrnl.exe"])
            folder.Write($"src/Windows/System32/{file}", "not what it should be");
        Assert.Equal("not-ready", Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), folder.At("a.vmb"))).Code);
        var result = Do.Capture(folder.At("src"), folder.At("a.vmb"), with: r => r with { AcceptUnready = true });
        Assert.Equal(3, result.Image.Files);
        Assert.Contains(result.Warnings, w => w.Contains("SOFTWARE", StringComparison.Ordinal));
    }

    [Fact]
    public void TheProgramFilesOfTheDemoAreValid()
    {
        foreach (var (path, machine) in new[] { ("Windows/System32/ntoskrnl.exe", "x86-64"),
            ("Program Files/Tarn Valley/Shelfmark/shelfmark.exe", "x86-64") })
            Assert.Contains(machine, Tools.Run("file", ["-b", Path.Combine(demo.Reference("lending-desk"), path)]),
                StringComparison.Ordinal);
        Assert.Contains("Aarch64", Tools.Run("file", ["-b", Path.Combine(demo.Driver("corrin-network"), "arm64/cornet.sys")]),
            StringComparison.OrdinalIgnoreCase);
        using var stream = File.OpenRead(Path.Combine(demo.Driver("corrin-storage"), "x64/corstor.sys"));
        using var program = new System.Reflection.PortableExecutable.PEReader(stream);
        Assert.Equal(System.Reflection.PortableExecutable.Machine.Amd64, program.PEHeaders.CoffHeader.Machine);
        var resources = program.PEHeaders.PEHeader!.ResourceTableDirectory;
        var text = System.Text.Encoding.Unicode.GetString([.. program.GetSectionData(resources.RelativeVirtualAddress).GetContent()]);
        Assert.Contains("VS_VERSION_INFO", text, StringComparison.Ordinal);
        Assert.Contains("4.2.118.0", text, StringComparison.Ordinal);
    }

    [Fact]
    public void TheDemoIsTheSameEveryTime()
    {
        using var folder = new TempFolder();
        Demo.DemoWorld.Make(folder.Path, 1, CancellationToken.None);
        Assert.Equal(Do.Listing(demo.Reference("bookmobile")), Do.Listing(folder.At("references/bookmobile")));
        Assert.Equal(Do.Listing(demo.At("drivers")), Do.Listing(folder.At("drivers")));
    }
}

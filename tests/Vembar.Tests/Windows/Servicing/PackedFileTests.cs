using System.Text;
using Vembar.Common;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Folders;
using Xunit;

namespace Vembar.Tests;

/// <summary>Packed files of every kind, made by other programs.</summary>
public class PackedFileTests(DemoFixture demo)
{
    private static readonly string[] s_kinds = ["tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst", "7z", "iso", "zip"];

    private static string Pack(TempFolder folder, string kind)
    {
        var file = folder.At($"packed.{kind}");
        string[] format = kind == "iso" ? ["--format", "iso9660"] : ["-a"];
        Tools.Run("bsdtar", [.. format, "-cf", file, "-C", folder.At("in"), "."]);
        return file;
    }

    private static byte[] Bytes(int seed, int length)
    {
        var bytes = new byte[length];
        new Random(seed).NextBytes(bytes);
        return bytes;
    }

    private static byte[] Read(PackedFile packed, string name)
    {
        using var stream = packed.Open(name);
        using var all = new MemoryStream();
        stream.CopyTo(all);
        return all.ToArray();
    }

    public static TheoryData<string> Kinds() => [.. s_kinds];

    [Theory]
    [MemberData(nameof(Kinds))]
    public void FilesOfEveryKindAreReadInAnyOrderAndSideBySide(string kind)
    {
        using var folder = new TempFolder();
        var contents = new Dictionary<string, byte[]>
        {
            ["driver.inf"] = Encoding.UTF8.GetBytes("[Version]"),
            ["Treiber für Büro/großes.bin"] = Bytes(1, 300_000),
            ["deep/er/empty.dat"] = [],
            ["deep/er/x.sys"] = Bytes(2, 70_001),
        };
        foreach (var (name, bytes) in contents)
            folder.Write($"in/{name}", bytes);
        var packed = PackedFile.Open(Pack(folder, kind));
        Assert.Equal(contents.Keys.Order(), packed.Files.Keys.Order());
        foreach (var (name, bytes) in contents.Reverse())
        {
            Assert.Equal(bytes.Length, packed.Files[name]);
            Assert.Equal(bytes, Read(packed, name.ToUpperInvariant()));
        }
        using var first = packed.Open("deep/er/x.sys");
        using var second = packed.Open("Treiber für Büro/großes.bin");
        var (a, b) = (new byte[1000], new byte[1000]);
        for (var at = 0; at < 70_000; at += 1000)
        {
            first.ReadExactly(a);
            second.ReadExactly(b);
            Assert.True(contents["deep/er/x.sys"].AsSpan(at, 1000).SequenceEqual(a));
            Assert.True(contents["Treiber für Büro/großes.bin"].AsSpan(at, 1000).SequenceEqual(b));
        }
    }

    [Fact]
    public void NothingOfAPackedFileStaysBehind()
    {
        var temporary = Environment.GetEnvironmentVariable("TMPDIR") is { Length: > 0 } named ? named : "/var/tmp";
        HashSet<string> Named() => [.. Directory.GetFileSystemEntries(temporary, ".vembar-*")];
        using var folder = new TempFolder();
        folder.Write("in/a.inf", "a");
        var before = Named();
        var packed = PackedFile.Open(Pack(folder, "7z"));
        using var stream = packed.Open("a.inf");
        Assert.Equal('a', stream.ReadByte());
        // Others may be making theirs, which have a name for a moment.
        var left = Named().Except(before).ToHashSet();
        for (var tries = 0; left.Count > 0 && tries < 600; tries++)
        {
            Thread.Sleep(100);
            left.IntersectWith(Named());
        }
        Assert.Empty(left);
    }

    [Theory]
    [InlineData("../../up.inf", "leads out of it")]
    [InlineData("a/../../up.inf", "leads out of it")]
    public void NamesThatLeadOutAreRefused(string name, string expected)
    {
        using var folder = new TempFolder();
        var tar = folder.At("up.tar");
        Tools.Run("python3",
            ["-c", "import sys,tarfile,io; t=tarfile.open(sys.argv[1],'w'); i=tarfile.TarInfo(sys.argv[2]); i.size=3; "
            + "t.addfile(i,io.BytesIO(b'abc')); t.close()", tar, name]);
        Assert.Contains(expected, Assert.Throws<VembarException>(() => PackedFile.Open(tar)).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void WhatSaysThatItHoldsMoreThanAnythingIsNotUnpacked()
    {
        using var folder = new TempFolder();
        // A tar whose one file is 100 GiB of nothing, cut off and compressed.
        Tools.Run("sh", ["-c", "truncate -s 100G big.bin && (tar cf - big.bin | head -c 50000000 | zstd -q -o big.tar.zst)"], folder.Path);
        Assert.Contains("it says that it holds 100 GiB",
            Assert.Throws<VembarException>(() => PackedFile.Open(folder.At("big.tar.zst"))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public void LinksInATarAreTheFilesThatTheyLinkTo()
    {
        using var folder = new TempFolder();
        folder.Write("in/a.sys", "content");
        Tools.Run("ln", [folder.At("in/a.sys"), folder.At("in/b.sys")]);
        File.CreateSymbolicLink(folder.At("in/c.sys"), "/etc/passwd");
        var packed = PackedFile.Open(Pack(folder, "tar"));
        Assert.Equal(["a.sys", "b.sys"], packed.Files.Keys.Order());
        Assert.Equal("content", Encoding.UTF8.GetString(Read(packed, "b.sys")));
        Assert.Equal("content", Encoding.UTF8.GetString(Read(packed, "a.sys")));
    }

    // Flips and cuts, at places that the seed gives: whatever comes out is what was in, or an error that says so.
    [Theory]
    [MemberData(nameof(Kinds))]
    public void DamagedFilesAreToldAndNeverCrash(string kind)
    {
        using var folder = new TempFolder();
        folder.Write("in/a.inf", Bytes(3, 5_000));
        folder.Write("in/b.sys", Encoding.UTF8.GetBytes(new string('b', 9_000)));
        var sound = File.ReadAllBytes(Pack(folder, kind));
        var random = new Random(29);
        for (var round = 0; round < 120; round++)
        {
            var bytes = round % 3 == 0 ? sound[..random.Next(sound.Length)] : (byte[])sound.Clone();
            for (var flips = random.Next(1, 4); round % 3 != 0 && flips > 0; flips--)
                bytes[random.Next(Math.Min(bytes.Length, round % 2 == 0 ? bytes.Length : 2_000))] ^= (byte)(1 << random.Next(8));
            var file = folder.Write($"damaged.{kind}", bytes);
            try
            {
                var packed = PackedFile.Open(file);
                foreach (var (name, length) in packed.Files.Where(f => f.Value < 1 << 20))
                    Assert.Equal(length, Read(packed, name).Length);
            }
            catch (VembarException problem)
            {
                Assert.True(problem.Kind is ErrorKind.Input or ErrorKind.Environment, $"round {round}: {problem.Message}");
                Assert.Contains(file, problem.Message, StringComparison.Ordinal);
            }
        }
    }

    [Fact]
    public void DriversComeOutOfACabinetAsOutOfAFolder()
    {
        using var folder = new TempFolder();
        Tools.Run("sh", ["-c", $"gcab -c -z -n '{folder.At("audio.cab")}' *"], demo.At("drivers/brightwell-audio"));
        var found = Assert.Single(FoundInf.Find(folder.Path));
        Assert.Equal($"{folder.At("audio.cab")}/bwaudio.inf", found.DisplayName);
        var driver = DriverPackage.Read(found).For(WindowsTarget.Newest("amd64"));
        var plain = DriverPackage.Read(demo.At("drivers/brightwell-audio/bwaudio.inf")).For(WindowsTarget.Newest("amd64"));
        Assert.Equal(plain.StoreFolder(), driver.StoreFolder());
        Assert.Equal(SignatureState.Signed, demo.Trust.Check(driver).State);

        var archive = folder.At("a.vmb");
        File.Copy(demo.Archive, archive);
        var result = Do.Service(archive, null, new DriverChange([folder.At("audio.cab")], new DriverOptions { Trust = demo.Trust }));
        Assert.Equal(ChangeStatus.Done, Assert.Single(result.Changes).Status);
        Assert.Empty(Do.Verify(archive).Damage);
    }

    [Fact]
    public void CompressedSourcesAreExpanded()
    {
        using var folder = new TempFolder();
        var source = demo.At("drivers/corrin-storage");
        Tools.Run("cp", ["-r", source, folder.At("d")]);
        Tools.Run("gcab", ["-c", "-z", "-n", "corstor.sy_", "corstor.sys"], folder.At("d/x64"));
        File.Delete(folder.At("d/x64/corstor.sys"));
        var driver = DriverPackage.Read(folder.At("d/corstor.inf")).For(WindowsTarget.Newest("amd64"));
        Assert.Empty(driver.MissingFiles);
        Assert.Equal(SignatureState.Signed, demo.Trust.Check(driver).State);
        Assert.Equal(File.ReadAllBytes(Path.Combine(source, "x64/corstor.sys")), driver.Package.Folder.Read("x64/corstor.sys"));

        // Also in a packed file.
        Tools.Run("bsdtar", ["-a", "-cf", folder.At("d.7z"), "-C", folder.At("d"), "."]);
        Assert.Equal(driver.StoreFolder(), DriverPackage.Read(folder.At("d.7z")).For(WindowsTarget.Newest("amd64")).StoreFolder());

        folder.Write("d/x64/corstor.sy_", "SZDD\u0088old");
        Assert.Equal("old-compression",
            Assert.Throws<VembarException>(() => DriverPackage.Read(folder.At("d/corstor.inf")).For(driver.Windows).MissingFiles).Code);
        folder.Write("d/x64/corstor.sy_", "no cabinet at all");
        Assert.Equal("bad-packed-file",
            Assert.Throws<VembarException>(() => DriverPackage.Read(folder.At("d/corstor.inf")).For(driver.Windows).MissingFiles).Code);
    }

    [Theory]
    [InlineData("chip.sys", "chip.sy_")]
    [InlineData("chip.co", "chip.co_")]
    [InlineData("a.b/chip", "a.b/chip._")]
    [InlineData("chip.json", "chip.jso_")]
    public void CompressedNamesAreMadeAsSetUpMakesThem(string name, string expected) =>
        Assert.Equal(expected, ExpandingFolder.CompressedName(name));
}

using CsCheck;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Files;
using Vembar.Store.Compression;
using Xunit;

namespace Vembar.Tests;

public class CaptureDeployTests
{
    [Fact]
    public void ARealTreeComesBackWithoutADifference()
    {
        // What compiled these tests: thousands of files that are not ours. The folder above is written to by every build.
        var source = Path.GetFullPath(Path.Combine(Path.GetDirectoryName(typeof(object).Assembly.Location)!, "../../../sdk"));
        using var folder = new TempFolder();
        var archive = folder.At("sdk.vmb");
        var first = Do.Capture(source, archive, "sdk", r => r with { Effort = Effort.Quick });
        var result = Do.Deploy(archive, folder.At("out"));
        Assert.Empty(result.Differences);
        Assert.Equal("", Tools.Run("diff", ["-r", "--no-dereference", source, folder.At("out")]));
        var second = Do.Capture(source, archive, "again", r => r with { Effort = Effort.Quick });
        Assert.Equal(0, second.Stats.BytesNew);
        Assert.InRange(second.Stats.BytesStored, 1, first.Stats.BytesStored / 200);
        Assert.Equal(first.Image.Root, second.Image.Root);
    }

    [Fact]
    public void WhatALinuxFolderHasComesBack()
    {
        using var folder = new TempFolder();
        var source = folder.At("src");
        folder.Write("src/plain.txt", "text");
        folder.Write("src/empty", "");
        folder.Write("src/deep/er/est/x", "x");
        Directory.CreateDirectory(folder.At("src/empty folder"));
        folder.Write("src/tool", "#!/bin/sh");
        Tools.Run("chmod", ["4755", "src/tool"], folder.Path);
        File.CreateSymbolicLink(folder.At("src/link"), "deep/er/../nowhere");
        File.CreateSymbolicLink(folder.At("src/folder link"), "deep");
        Tools.Run("ln", ["src/plain.txt", "src/deep/second name"], folder.Path);
        Tools.Run("setfattr", ["-n", "user.remark", "-v", "kept", "src/plain.txt"], folder.Path);
        Tools.Run("touch", ["-d", "1999-12-31 23:59:59.123456789 UTC", "src/plain.txt"], folder.Path);
        Tools.Run("touch", ["-d", "1888-01-01 00:00:00.000000001 UTC", "src/empty"], folder.Path);
        Tools.Run("touch", ["-h", "-d", "2001-02-03 04:05:06.7 UTC", "src/link"], folder.Path);
        Tools.Run("sh",
            ["-c", "printf x > \"$(printf 'src/\\377\\376 bytes')\"; mkdir \"$(printf 'src/new\\nline')\"; : > 'src/ends with space '; : "
            + "> src/CASE; : > src/case"], folder.Path);
        Tools.Run("touch", ["-d", "2020-01-01 UTC", "src/deep", "src"], folder.Path);
        var before = Do.Listing(source);
        Do.Capture(source, folder.At("a.vmb"));
        Assert.Equal(before, Do.Listing(source));
        var result = Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Empty(result.Differences);
        Assert.Equal(before, Do.Listing(folder.At("out")));
        Assert.Contains("kept", Tools.Run("getfattr", ["-n", "user.remark", folder.At("out/plain.txt"), "--absolute-names"]),
            StringComparison.Ordinal);
        Assert.Equal(Tools.Run("stat", ["-c", "%i", folder.At("out/plain.txt")]),
            Tools.Run("stat", ["-c", "%i", folder.At("out/deep/second name")]));
    }

    [Fact]
    public void ExtendedAttributesComeBackFromFilesOfEveryKind()
    {
        using var folder = new TempFolder();
        var large = new byte[3_000_000];
        new Random(1).NextBytes(large);
        folder.Write("src/plain", "text");
        folder.Write("src/empty", "");
        folder.Write("src/inner/large", large);
        folder.Write("src/two names", "linked");
        folder.Write("src/none", "none");
        Tools.Run("ln", ["src/two names", "src/inner/second"], folder.Path);
        string[] with = ["plain", "empty", "inner", "inner/large", "two names"];
        foreach (var name in with)
            Tools.Run("setfattr", ["-n", "user.of", "-v", $"value of {name}", $"src/{name}"], folder.Path);
        Tools.Run("setfattr", ["-n", "user.second one", "-v", "0x00ff00", "src/plain"], folder.Path);
        string Dump(string of) => Tools.Run("sh", ["-c", "getfattr -R -d -e hex . 2>/dev/null | LC_ALL=C sort"], folder.At(of));
        var first = Do.Capture(folder.At("src"), folder.At("a.vmb"));
        // A second capture compares, and comes to the same.
        var second = Do.Capture(folder.At("src"), folder.At("a.vmb"), "two");
        Assert.Equal(first.Image.Root, second.Image.Root);
        var third = Do.Capture(folder.At("src"), folder.At("a.vmb"), "three", r => r with { Reread = true });
        Assert.Equal(first.Image.Root, third.Image.Root);
        Assert.Empty(Do.Deploy(folder.At("a.vmb") + "#1", folder.At("out")).Differences);
        Assert.Equal(Dump("src"), Dump("out"));
        Assert.Equal(with.Length + 2, Dump("out").Split('\n').Count(l => l.StartsWith("user.", StringComparison.Ordinal)));
    }

    [Fact]
    public void RandomTreesComeBack()
    {
        var name = Gen.Char["abXY .é\u4e2d-_"].Array[1, 8].Select(c => new string(c)).Where(n => n is not ("." or ".."));
        Gen.Select(name.Array[1, 4], Gen.Byte.Array[0, 5000], Gen.Int[0, 3], Gen.Int[1, 300]).Array[1, 25].Sample(items =>
        {
            using var folder = new TempFolder();
            Directory.CreateDirectory(folder.At("src"));
            foreach (var (parts, bytes, kind, repeat) in items)
            {
                var path = Path.Combine(folder.At("src"), Path.Combine(parts));
                try
                {
                    Directory.CreateDirectory(Path.GetDirectoryName(path)!);
                    if (kind == 0)
                        Directory.CreateDirectory(path);
                    else if (kind == 1)
                        File.CreateSymbolicLink(path, "x" + bytes.Length);
                    else
                        File.WriteAllBytes(path, [.. Enumerable.Repeat(bytes, repeat).SelectMany(b => b)]);
                }
                catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
                {
                    // A file is where a folder would have to be; the tree is as good without it.
                }
            }
            Do.Capture(folder.At("src"), folder.At("a.vmb"));
            Assert.Empty(Do.Deploy(folder.At("a.vmb"), folder.At("out")).Differences);
            Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
            Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
        }, iter: 25);
    }

    [Fact]
    public void HolesStayHoles()
    {
        using var folder = new TempFolder();
        folder.Write("src/other", "x");
        using (var file = File.Create(folder.At("src/sparse")))
        {
            file.SetLength(3L << 30);
            file.Position = 1L << 30;
            file.Write("in the middle"u8);
        }
        var result = Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Assert.InRange(result.Stats.BytesRead, 1, 1 << 22);
        Assert.InRange(new FileInfo(folder.At("a.vmb")).Length, 1, 100_000);
        Do.Deploy(folder.At("a.vmb"), folder.At("out"), r => r with { Verify = false });
        Assert.Equal("", Tools.Run("cmp", [folder.At("src/sparse"), folder.At("out/sparse")]));
        Assert.InRange(int.Parse(Tools.Run("stat", ["-c", "%b", folder.At("out/sparse")])) * 512L, 1, 1 << 20);
    }

    [Fact]
    public void DeepTreesAndLongPathsComeBack()
    {
        using var folder = new TempFolder();
        // Longer than the 4,096 bytes that one call takes.
        Tools.Run("python3",
            ["-c", "import os\nos.mkdir('src'); os.chdir('src')\nfor i in range(60):\n    d = 'd%0100d' % i\n    os.mkdir(d); "
            + "os.chdir(d); open('f', 'w').write(str(i))"], folder.Path);
        var result = Do.Capture(folder.At("src"), folder.At("a.vmb"));
        Assert.Equal(60, result.Image.Files);
        Assert.Empty(Do.Deploy(folder.At("a.vmb"), folder.At("out")).Differences);
        // How large a folder is, and the order of what is in it, is the file system's affair.
        string Listing(string name) => Tools.Run("sh",
            ["-c", "find . \\( -type f -printf '%d %f %s %T@\\n' -o -printf '%d %f %T@\\n' \\) | LC_ALL=C sort"], folder.At(name));
        Assert.Equal(Listing("src"), Listing("out"));
    }

    [Fact]
    public void WhatWindowsMakesAnewIsLeftOutUnlessAsked()
    {
        using var folder = new TempFolder();
        folder.Write("src/pagefile.sys", "p");
        folder.Write("src/Windows/Temp/a/b", "t");
        folder.Write("src/windows.txt", "w");
        folder.Write("src/Users/u/AppData/Local/Temp/x", "x");
        folder.Write("src/keep.iso", "i");
        var result = Do.Capture(folder.At("src"), folder.At("a.vmb"), "one", r => r with { LeaveOut = ["*.iso", "*.none"] });
        Assert.Equal(["Users/u/AppData/Local/Temp/x", "Windows/Temp/a", "keep.iso", "pagefile.sys"],
            result.Excluded.Select(l => l.Path).Order(StringComparer.Ordinal));
        Assert.Contains(result.Warnings, w => w.Contains("'*.none' left nothing out", StringComparison.Ordinal));
        Assert.True(Do.WithTree(folder.At("a.vmb"), 1, t => t.Exists(WindowsPath.Parse("Windows/Temp"))));
        Assert.Equal(5, Do.Capture(folder.At("src"), folder.At("a.vmb"), "all", r => r with { KeepAll = true }).Image.Files);
    }

    [Fact]
    public void TheArchiveInItsOwnSourceIsLeftOut()
    {
        using var folder = new TempFolder();
        folder.Write("src/file", "x");
        var result = Do.Capture(folder.At("src"), folder.At("src/own.vmb"));
        Assert.Equal(1, result.Image.Files);
        Assert.Contains(result.Excluded, l => l.Path == "own.vmb");
    }

    [Fact]
    public void AllMistakesThatCanBeSeenAreToldTogether()
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => Do.Capture(folder.At("nowhere"), folder.At("no/such/a.vmb"), "7"));
        Assert.Equal(3, problem.Details.Count);
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder.Path));
    }

    [Fact]
    public void AMistypedFolderIsToldWithTheNearestOne()
    {
        using var folder = new TempFolder();
        folder.Write("reference/x", "x");
        var problem = Assert.Throws<VembarException>(() => Do.Capture(folder.At("refrence"), folder.At("a.vmb")));
        Assert.Equal("no-such-source", problem.Code);
        Assert.Contains(folder.At("reference"), problem.Hint, StringComparison.Ordinal);
        Assert.False(File.Exists(folder.At("a.vmb")));
    }

    [Fact]
    public void AnInterruptedCaptureLeavesWhatWasThere()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 400; i++)
            folder.Write($"src/f{i}", new string((char)('a' + i % 26), 2000));
        using var stop = new CancellationTokenSource();
        var request = new CaptureRequest { Source = folder.At("src"), Archive = folder.At("a.vmb"), Name = "one" };
        var progress = new StopAt("reading and storing", stop);
        Assert.ThrowsAny<OperationCanceledException>(() => Do.Capture(request, progress, stop.Token));
        Assert.Equal(["src"], Directory.EnumerateFileSystemEntries(folder.Path).Select(Path.GetFileName));
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var before = File.ReadAllBytes(folder.At("a.vmb"));
        using var again = new CancellationTokenSource();
        Assert.ThrowsAny<OperationCanceledException>(() => Do.Capture(request with
        {
            Name = "two",
        }, new StopAt("writing the index", again), again.Token));
        Assert.Equal(before, File.ReadAllBytes(folder.At("a.vmb")));
    }

    [Fact]
    public void TakenFilesAreTheSame()
    {
        using var folder = new TempFolder();
        folder.Write("src/a/one.txt", "1");
        folder.Write("src/a/b/two.txt", "2");
        folder.Write("src/three.ini", "3");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        var image = new ImageReference(folder.At("a.vmb"), null);
        TakeResult Take(string to, params string[] paths) =>
            Do.Take(image, paths, folder.At(to), NoProgress.Instance, CancellationToken.None);
        Assert.Equal(2, Take("t1", "A").Files);
        Assert.Equal("2", File.ReadAllText(folder.At("t1/a/b/two.txt")));
        Assert.Equal(["one.txt", "two.txt"], Take("t2", "**/*.TXT").Paths.Select(p => p[(p.LastIndexOf('/') + 1)..]).Order());
        Assert.Equal("target-exists", Assert.Throws<VembarException>(() => Take("t2", "a/one.txt")).Code);
        Assert.Equal("a/one.txt", Assert.Throws<VembarException>(() => Take("t3", "a/onn.txt")).Advice!.Arguments["value"]);
        Assert.False(Directory.Exists(folder.At("t3")));
        var printed = new MemoryStream();
        Do.Print(image, "three.ini", printed);
        Assert.Equal("3"u8.ToArray(), printed.ToArray());
    }

    [Fact]
    public void AMountedNtfsVolumeGivesItsMetadata()
    {
        Assert.SkipUnless(Posix.IsRoot && File.Exists("/dev/fuse"), "needs root and /dev/fuse");
        using var folder = new TempFolder();
        var (disk, mount) = (folder.At("disk"), folder.At("mnt"));
        Directory.CreateDirectory(mount);
        Tools.Run("truncate", ["-s", "24M", disk]);
        Tools.Run("mkntfs", ["-F", "-Q", "-q", disk]);
        var (code, _, error) = Tools.Try("ntfs-3g", ["-o", "streams_interface=xattr", disk, mount]);
        Assert.SkipUnless(code == 0, $"the volume cannot be mounted here: {error}");
        try
        {
            File.WriteAllText(Path.Combine(mount, "file.txt"), "content");
            Tools.Run("setfattr", ["-n", "user.Zone", "-v", "stream", Path.Combine(mount, "file.txt")]);
            Tools.Run("setfattr", ["-n", "system.ntfs_attrib_be", "-v", "0x00000022", Path.Combine(mount, "file.txt")]);
            var result = Do.Capture(mount, folder.At("a.vmb"));
            Assert.True(result.Image.Files >= 1);
        }
        finally
        {
            Tools.Run("umount", [mount]);
        }
        Do.WithTree(folder.At("a.vmb"), 1, tree =>
        {
            var entry = tree.Find(WindowsPath.Parse("file.txt"))!;
            Assert.Equal(WindowsAttributes.Hidden | WindowsAttributes.Archive, entry.Attributes);
            Assert.NotNull(entry.Created);
            Assert.NotNull(entry.Accessed);
            Assert.Null(entry.Owner);
            Assert.False(entry.Security.IsNone);
            Assert.Equal("stream"u8.ToArray(), tree.ReadAll(entry.Streams.Single(s => s.Name == "Zone").Content, WindowsPath.Root, 100));
            return 0;
        });
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
        var deployed = Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Contains(deployed.Warnings,
            w => w.Contains("security descriptors", StringComparison.Ordinal) && w.Contains("named streams", StringComparison.Ordinal));
    }
}

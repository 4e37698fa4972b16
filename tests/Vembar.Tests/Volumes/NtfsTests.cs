using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests;

public class NtfsTests(DemoDisks demo)
{
    private const string Rich = """
        mkdir -p "Windows/System32/config" "Program Files/Tarn Valley" deep/a/b/c
        for i in 1 2 3 4 5 6 7 8 9; do printf 'file %s' $i > "Windows/System32/file$i.dll"; done
        head -c 3000000 /dev/urandom > Windows/large.bin
        printf 'short' > Windows/small.txt
        setfattr -n user.Zone.Identifier -v "[ZoneTransfer]" Windows/small.txt
        setfattr -n user.long -v "0x$(head -c 30000 /dev/urandom | od -An -tx1 | tr -d ' \n')" Windows/small.txt
        ln Windows/small.txt Windows/System32/second.txt
        ln Windows/small.txt "Program Files/third.txt"
        truncate -s 5000000 sparse.bin; printf 'end' | dd of=sparse.bin bs=1 seek=4000000 conv=notrunc status=none
        setfattr -h -n system.ntfs_dos_name -v "PROGRA~1" "Program Files"
        setfattr -h -n system.ntfs_attrib -v 0x26000000 Windows/System32/file1.dll
        setfattr -h -n system.ntfs_times_be -v 0x01d900000000000101da00000000000201db00000000000301dc000000000004 Windows/System32/file2.dll
        setfattr -h -n system.ntfs_object_id -v 0x00112233445566778899aabbccddeeff Windows/System32/file3.dll
        setfattr -h -n system.ntfs_ea -v 0x10000000000304004b45590076616c31 Windows/System32/file4.dll
        """;

    [Fact]
    public void AFolderThatNamesTwoFilesAlikeIsToldAndTheOthersAreCaptured()
    {
        using var folder = new TempFolder();
        var volume = NtfsVolumes.Make(folder);
        NtfsVolumes.Fill(folder, volume,
            "mkdir d; echo one > d/twin-a.txt; echo two > d/twin-b.txt; echo sound > d/sound.txt; echo too > too.txt");
        // Every place that says twin-b says twin-a from now on, as a damaged index may.
        var bytes = File.ReadAllBytes(volume);
        var found = 0;
        ReadOnlySpan<byte> name = System.Text.Encoding.Unicode.GetBytes("twin-b.txt");
        for (var at = 0; bytes.AsSpan(at).IndexOf(name) is >= 0 and var next; at += next + 1)
        {
            bytes[at + next + 2 * "twin-".Length] = (byte)'a';
            found++;
        }
        Assert.True(found >= 2);
        File.WriteAllBytes(volume, bytes);
        var told = Assert.Throws<VembarException>(() => Do.Capture(volume, folder.At("a.vmb")));
        Assert.Contains("'d/twin-a.txt' is in its folder twice", told.Message, StringComparison.Ordinal);
        Assert.False(File.Exists(folder.At("a.vmb")));
        var taken = Do.Capture(volume, folder.At("a.vmb"), with: r => r with { SkipUnreadable = true });
        Assert.Contains(taken.Warnings, w => w.Contains("twin-a.txt", StringComparison.Ordinal));
        Assert.Equal(["sound.txt"],
            Do.WithTree(folder.At("a.vmb"), 1,
            t => t.List(t.Find(WindowsPath.Parse("d"))!, WindowsPath.Parse("d")).Select(c => c.Name).ToList()));
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
    }

    // FUSE's view of everything below a folder: sizes, links, hashes, and every attribute of NTFS, but for access times.
    private static string Seen(TempFolder folder, string volume)
    {
        Directory.CreateDirectory(folder.At("mnt"));
        Tools.Run("ntfs-3g", ["-o", "ro,streams_interface=xattr", volume, folder.At("mnt")]);
        try
        {
            return Tools.Run("sh", ["-c", """
                find . -printf '%p %y %s %n %l\n' | LC_ALL=C sort
                find . -type f -print0 | LC_ALL=C sort -z | xargs -0 -r b3sum
                find . -print0 | LC_ALL=C sort -z | while IFS= read -r -d '' p; do
                  for a in ntfs_acl ntfs_attrib_be ntfs_times_be ntfs_reparse_data ntfs_dos_name ntfs_object_id ntfs_ea; do
                    printf '%s %s ' "$p" $a; getfattr -h --only-values -n system.$a "$p" 2>/dev/null | od -An -v -tx1 | tr -d ' \n'; echo
                  done
                  getfattr -h -d -m '^user\.' -e hex "$p" 2>/dev/null
                done
                """], folder.At("mnt"));
        }
        finally
        {
            Tools.Run("umount", [folder.At("mnt")]);
        }
    }

    private static string Partition(TempFolder folder, string disk, string name = "partition.img")
    {
        using var open = Disk.Open(disk);
        var volume = open.Volumes.Single(v => v.FileSystem.Label == "Windows");
        var path = folder.At(name);
        Tools.Run("dd", [$"if={disk}", $"of={path}", "bs=1M", $"skip={volume.Start >> 20}", $"count={volume.Length >> 20}", "conv=sparse",
            "status=none"]);
        return path;
    }

    [Fact]
    public void AVolumeMadeByOthersGoesThroughWholeAndOthersSeeTheSame()
    {
        using var folder = new TempFolder();
        var volume = NtfsVolumes.Make(folder);
        NtfsVolumes.Fill(folder, volume, Rich + """

            mkdir junction
            setfattr -h -n system.ntfs_reparse_data -v 0x030000a01800000000000c000e0000005c003f003f005c0043003a0000000000 junction
            """);
        var hash = Tools.Run("b3sum", [volume]);
        var archive = folder.At("a.vmb");
        var captured = Do.Capture(volume, archive, "volume", r => r with { KeepAll = true });
        // Not a bit of the source was changed.
        Assert.Equal(hash, Tools.Run("b3sum", [volume]));
        var deployed = Do.Deploy($"{archive}#1", folder.At("disk.img"), r => r with { Size = 1200L << 20 });
        Assert.Empty(deployed.Differences);
        Assert.DoesNotContain(deployed.Warnings, w => w.Contains("cannot keep", StringComparison.Ordinal));
        var partition = Partition(folder, folder.At("disk.img"));
        // Labels are the layout's; the change time of a file with several names is the library's last touch.
        Assert.Equal(Seen(folder, volume), Seen(folder, partition));
        var found = Tools.Run("ntfsresize", ["-i", "-f", partition]);
        Assert.Contains("Space in use", found, StringComparison.Ordinal);
        Assert.DoesNotContain("ERROR", found, StringComparison.Ordinal);
        // Sleuthkit lists the same files, hashes the same content, and sees the metadata.
        string List(string path) =>
            string.Join('\n', Tools.Run("fls", ["-r", "-p", path]).Split('\n').Select(l => l[(l.IndexOf('\t') + 1)..])
            .Where(l => !l.StartsWith('$') && !l.StartsWith("OrphanFiles", StringComparison.Ordinal)).Order(StringComparer.Ordinal));
        Assert.Equal(List(volume), List(partition));
        var large = Tools.Run("fls", ["-r", "-p", partition]).Split('\n')
            .Single(l => l.EndsWith("\tWindows/large.bin", StringComparison.Ordinal)).Split(' ', ':')[1];
        Tools.Run("sh", ["-c", $"icat '{partition}' {large} > large.out"], folder.Path);
        Assert.Equal(Do.WithTree(archive, 1, t => t.Find(WindowsPath.Parse("Windows/large.bin"))!.Content!.Hash.ToString()),
            Tools.Run("b3sum", ["--no-names", folder.At("large.out")]).Trim());
        Assert.Contains("Windows", Tools.Run("fsntfsinfo", [partition]), StringComparison.Ordinal);
        // Captured again, it is the same tree.
        var again = Do.Capture(folder.At("disk.img"), archive, "again", r => r with { KeepAll = true, Volume = 3 });
        Assert.Equal(captured.Image.Root, again.Image.Root);
    }

    [Fact]
    public void EveryFormatOfADiskGivesTheSameImage()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var roots = new List<string> { Do.Capture(demo.LendingDesk, archive, "vhdx").Image.Root.ToString() };
        Tools.Run("qemu-img", ["convert", "-O", "raw", demo.LendingDesk, folder.At("d.img")]);
        foreach (var (format, name, options) in (ReadOnlySpan<(string, string, string)>)[("raw", "d.img", ""), ("vpc", "d.vhd", ""),
            ("vpc", "fixed.vhd", "subformat=fixed"), ("qcow2", "d.qcow2", ""), ("vmdk", "d.vmdk", "")])
        {
            if (name != "d.img")
                Tools.Run("qemu-img", ["convert", "-f", "raw", "-O", format, .. options.Length > 0 ? (string[])["-o", options] : [],
                    folder.At("d.img"), folder.At(name)]);
            var hash = Tools.Run("b3sum", [folder.At(name)]);
            roots.Add(Do.Capture(folder.At(name), archive, name).Image.Root.ToString());
            Assert.Equal(hash, Tools.Run("b3sum", [folder.At(name)]));
        }
        Assert.Single(roots.Distinct());
        Tools.NothingHolds(folder);
        // An unchanged volume is taken over without being read.
        var again = Do.Capture(folder.At("d.img"), archive, "again");
        Assert.Equal(roots[0], again.Image.Root.ToString());
        Assert.Equal(0, again.Stats.FilesRead);
    }

    [Fact]
    public void EverythingThatTheDemosDiskHasSurvives()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(demo.LendingDesk, archive, "one", r => r with { KeepAll = true });
        foreach (var target in (string[])["d.img", "d.vhdx", "d.qcow2"])
        {
            var result = Do.Deploy($"{archive}#1", folder.At(target), r => r with { Size = 1700L << 20 });
            Assert.Empty(result.Differences);
            Assert.Equal(["efi", "reserved", "windows", "recovery"], result.Volumes.Select(v => v.Role));
            var again = Do.Capture(folder.At(target), archive, target, r => r with { KeepAll = true });
            Assert.Equal(Do.WithTree(archive, 1, t => t.Root.Folder), Do.WithTree(archive, again.Image.Number, t => t.Root.Folder));
        }
        var entries = Do.WithTree(archive, 1,
            t => t.Walk(t.Root, WindowsPath.Root).ToDictionary(e => e.Path.ToString(), e => e.Entry, StringComparer.Ordinal));
        Assert.NotNull(entries["Documents and Settings"].Reparse);
        Assert.Equal("PROGRA~1", entries["Program Files"].ShortName);
        Assert.Equal("Zone.Identifier", Assert.Single(entries["Users/Public/Documents/Staff handbook.txt"].Streams).Name);
        Assert.True(entries["Windows/Help"].Attributes!.Value.HasFlag(WindowsAttributes.Compressed));
        Assert.Contains(entries.Values, e => e.ObjectId is { Length: 64 });
        Assert.Contains(entries.Values, e => e.ExtendedAttributes is [{ Name: "$KERNEL.PURGE.ESBCACHE", Value.Length: 24 }]);
        Assert.True(entries.ContainsKey("ProgramData/Tarn Valley/Logs/notes.txt")
            && entries.ContainsKey("ProgramData/Tarn Valley/Logs/Notes.txt"));
        Assert.True(entries.Values.Count(e => e.LinkGroup != 0) >= 400);
        Assert.True(entries.Values.Select(e => e.Security).Distinct().Count() >= 3);
        // What a Linux folder cannot keep is told once.
        var told = Do.Deploy($"{archive}#1", folder.At("folder"), r => r with
        {
            Verify = false,
        }).Warnings.Single(w => w.Contains("cannot keep", StringComparison.Ordinal));
        foreach (var what in (string[])["security descriptors", "short names", "named streams", "reparse points", "creation times"])
            Assert.Contains(what, told, StringComparison.Ordinal);
    }

    [Fact]
    public void TheLibraryIsHeldToWhatItMayDo()
    {
        using var folder = new TempFolder();
        var path = NtfsVolumes.Make(folder);
        using (var volume = NtfsVolume.Open(FileDevice.Open(path, write: false), write: false))
        {
            Assert.Equal("Probe", volume.Label);
            Assert.Equal((3, 4096, false), (volume.MajorVersion, volume.ClusterSize, volume.IsDirty));
            var info = Tools.Run("ntfsinfo", ["-m", "-f", path]);
            Assert.Contains($"Free Clusters: {volume.FreeBytes() / volume.ClusterSize} ", info, StringComparison.Ordinal);
            using var root = volume.Open(NtfsVolume.Root, "/");
            Assert.Equal(Errno.ReadOnly, Assert.Throws<NativeException>(() => volume.Create(root, "x", false, 0, "x")).Errno);
            Assert.Null(root.Find("nothing"));
            Assert.Throws<NativeException>(() => volume.Open(60_000, "x"));
        }
        using (var volume = NtfsVolume.Open(FileDevice.Open(path, write: true), write: true))
        {
            using (var root = volume.Open(NtfsVolume.Root, "/"))
            {
                foreach (var bad in (string[])["", ".", "..", "a/b", "a\0b", new string('x', 256)])
                    Assert.Throws<NativeException>(() => volume.Create(root, bad, false, 0, bad));
                foreach (var good in (string[])[new string('x', 255), "trailing.", "lone \ud800 surrogate", "a:b"])
                    volume.Create(root, good, false, 0, good).Close(root);
                Assert.Equal(Errno.Exists, Assert.Throws<NativeException>(() => volume.Create(root, "a:b", false, 0, "a:b")).Errno);
                Assert.Equal(4,
                    root.Names().Count(n => (n.Reference & 0xFFFFFFFFFFFF) >= NtfsVolume.FirstUserFile && !n.Name.StartsWith('$')));
            }
            volume.Rename("Renamed");
            volume.Close();
        }
        using (var volume = NtfsVolume.Open(FileDevice.Open(path, write: false), write: false))
            Assert.Equal("Renamed", volume.Label);
        Assert.Equal(Errno.Invalid,
            Assert.Throws<NativeException>(() => NtfsVolume.Open(new MemoryDevice(new byte[1 << 20]), write: false)).Errno);
    }

    // Files and streams that nobody closed, as the collector finds them.
    [System.Runtime.CompilerServices.MethodImpl(System.Runtime.CompilerServices.MethodImplOptions.NoInlining)]
    private static void Abandon(NtfsVolume volume, string name)
    {
#pragma warning disable CA2000 // that is what is tried here
        var root = volume.Open(NtfsVolume.Root, "/");
        var file = volume.Create(root, name, isFolder: false, 0, name);
        file.OpenData().Write("abandoned"u8, 0);
        volume.Open(NtfsVolume.Root, "/").OpenData("$nothing is here");
#pragma warning restore CA2000
    }

    [Fact]
    public void WhatNobodyClosedGoesWithItsVolume()
    {
        using var folder = new TempFolder();
        var path = NtfsVolumes.Make(folder);
        using (var volume = NtfsVolume.Open(FileDevice.Open(path, write: true), write: true))
        {
            for (var i = 0; i < 20; i++)
            {
                Assert.Throws<NativeException>(() => Abandon(volume, $"{i}.txt"));
                GC.Collect();
                GC.WaitForPendingFinalizers();
                using var root = volume.Open(NtfsVolume.Root, "/");
                Assert.NotNull(root.Find($"{i}.txt"));
            }
            volume.Close();
            Assert.Throws<ObjectDisposedException>(() => volume.Open(NtfsVolume.Root, "/"));
        }
        Assert.Contains("Free Clusters", Tools.Run("ntfsinfo", ["-m", path]), StringComparison.Ordinal);
        using var again = NtfsVolume.Open(FileDevice.Open(path, write: false), write: false);
        Assert.False(again.IsDirty);
        using var top = again.Open(NtfsVolume.Root, "/");
        using var last = again.Open(top.Find("19.txt")!.Value, "19.txt");
        using var data = last.OpenData();
        var bytes = new byte[9];
        Assert.Equal(9, data.Read(bytes, 0));
        Assert.Equal("abandoned"u8.ToArray(), bytes);
    }

    [Fact]
    public void UnreadableFilesFailTheCaptureOrAreLeftOutAndTold()
    {
        using var folder = new TempFolder();
        var volume = NtfsVolumes.Make(folder);
        NtfsVolumes.Fill(folder, volume,
            "mkdir d; for i in 1 2 3 4; do printf \"content of $i\" > d/f$i.txt; done; head -c 200000 /dev/urandom > d/big.bin");
        // The record of one file is overwritten: its place comes from sleuthkit.
        var number = long.Parse(Tools.Run("fls", ["-r", "-p", volume]).Split('\n')
            .Single(l => l.EndsWith("\td/f2.txt", StringComparison.Ordinal)).Split(' ', '-')[1],
                System.Globalization.CultureInfo.InvariantCulture);
        var bytes = File.ReadAllBytes(volume);
        var table = BitConverter.ToInt64(bytes, 48) * 4096;
        bytes.AsSpan((int)(table + number * 1024), 1024).Fill(0xEE);
        File.WriteAllBytes(volume, bytes);
        var archive = folder.At("a.vmb");
        var problem = Assert.Throws<VembarException>(() => Do.Capture(volume, archive));
        Assert.Equal("unreadable", problem.Code);
        Assert.Contains("d/f2.txt", problem.Message, StringComparison.Ordinal);
        Assert.False(File.Exists(archive));
        var result = Do.Capture(volume, archive, with: r => r with { SkipUnreadable = true });
        Assert.Contains(result.Excluded, l => l.Path == "d/f2.txt" && l.Rule.StartsWith("unreadable", StringComparison.Ordinal));
        Assert.Contains(result.Warnings, w => w.Contains("d/f2.txt", StringComparison.Ordinal));
        Assert.Equal(["big.bin", "f1.txt", "f3.txt", "f4.txt"], Do.WithTree(archive, 1, t => t.Names(WindowsPath.Parse("d"))));
    }

    [Fact]
    public void AReadErrorHalfWayIsNamedWithItsPath()
    {
        using var folder = new TempFolder();
        var volume = NtfsVolumes.Make(folder);
        Directory.CreateDirectory(folder.At("mnt"));
        Tools.Run("ntfs-3g", ["-o", "compression", volume, folder.At("mnt")]);
        Tools.Run("sh",
            ["-e", "-c", "mkdir c; setfattr -h -n system.ntfs_attrib_be -v 0x00000810 c; for i in 1 2 3; do yes \"line $i of a file that "
            + "compresses well\" | head -c 300000 > c/f$i.txt; done"], folder.At("mnt"));
        Tools.Run("umount", [folder.At("mnt")]);
        // The walk sees nothing wrong; what is in the middle of the second file does not expand.
        var number = Tools.Run("fls", ["-r", "-p", volume]).Split('\n').Single(l => l.EndsWith("\tc/f2.txt", StringComparison.Ordinal))
            .Split(' ', ':')[1];
        var clusters = Tools.Run("istat", [volume, number]).Split('\n')
            .Where(l => l.Length > 0 && l.All(c => char.IsAsciiDigit(c) || c == ' '))
                .SelectMany(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries)).Select(long.Parse).Where(c => c > 0).ToList();
        Assert.NotEmpty(clusters);
        using (var file = File.OpenWrite(volume))
        {
            foreach (var cluster in clusters.Skip(clusters.Count / 2))
            {
                file.Position = cluster * 4096;
                file.Write(Enumerable.Repeat((byte)0xFF, 4096).ToArray());
            }
        }
        var archive = folder.At("a.vmb");
        Do.Capture(volume, archive, "before", r => r with { LeaveOut = ["c"] });
        var length = new FileInfo(archive).Length;
        var problem = Assert.Throws<VembarException>(() => Do.Capture(volume, archive, "whole"));
        Assert.Equal("unreadable", problem.Code);
        Assert.Contains("'c/f2.txt' cannot be read", problem.Message, StringComparison.Ordinal);
        Assert.Equal(length, new FileInfo(archive).Length);
        var result = Do.Capture(volume, archive, "the rest", r => r with { SkipUnreadable = true });
        Assert.Equal("c/f2.txt", Assert.Single(result.Excluded, l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal)).Path);
        Assert.Equal(["f1.txt", "f3.txt"], Do.WithTree(archive, result.Image.Number, t => t.Names(WindowsPath.Parse("c"))));
        Assert.True(Do.Verify(archive).Ok);
    }
}

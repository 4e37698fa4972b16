using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Orders;
using Vembar.Windows.Servicing.Packages;
using Xunit;

namespace Vembar.Tests;

/// <summary>What an earlier image is trusted for, and what is found in volumes that few have.</summary>
public class SourceTrustTests
{
    private static string Volume(TempFolder folder, string name = "volume.img")
    {
        using (var file = File.Create(folder.At(name)))
            file.SetLength(64L << 20);
        Tools.Run("mkntfs",
            ["-F", "-Q", "-q", "-s", "512", "-c", "4096", "-p", "0", "-H", "255", "-S", "63", "-L", "Probe", folder.At(name)]);
        return folder.At(name);
    }

    private static void Write(string volume, Action<NtfsVolume> work)
    {
        using var open = NtfsVolume.Open(FileDevice.Open(volume, write: true), write: true);
        work(open);
        open.Close();
    }

    private static ulong Make(NtfsVolume volume, ulong folder, string name, string? content, byte[]? reparse = null)
    {
        using var parent = volume.Open(folder, name);
        using var made = volume.Create(parent, name, content is null, 0, name);
        if (content is { Length: > 0 })
        {
            using var data = made.OpenData();
            data.Write(System.Text.Encoding.UTF8.GetBytes(content), 0);
        }
        if (reparse is not null)
            made.SetReparse(reparse);
        var number = made.Number;
        made.Close(parent);
        return number;
    }

    private static byte[] Tag(uint tag)
    {
        var data = new byte[8 + 16];
        BinaryPrimitives.WriteUInt32LittleEndian(data, tag);
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(4), 16);
        return data;
    }

    [Fact]
    public void AFileThatChangedBetweenCaptureAndServicingIsReadAgain()
    {
        using var folder = new TempFolder();
        folder.Write("src/one", "before");
        folder.Write("src/two", "other");
        Tools.Run("touch", ["-d", "2020-01-01 UTC", folder.At("src/one"), folder.At("src/two")]);
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        // Same length, same time: only that it was changed after the reading tells.
        File.WriteAllText(folder.At("src/one"), "after!");
        Tools.Run("touch", ["-d", "2020-01-01 UTC", folder.At("src/one")]);
        Do.Service(archive + "#1", null, new RemoveChange("two"));
        Do.Capture(folder.At("src"), archive, "again");
        Assert.Equal("after!",
            Do.WithTree(archive, 2, t => System.Text.Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("one"), 100)!)));
        // What servicing put in the place of a file, with its length and time, is not what the source has.
        var put = folder.Write("put", "AFTER!");
        Tools.Run("touch", ["-d", "2020-01-01 UTC", put]);
        Do.Service(archive + "#2", null, new PutChange(put, "one"));
        Do.Capture(folder.At("src"), archive, "third");
        Assert.Equal("after!",
            Do.WithTree(archive, 3, t => System.Text.Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("one"), 100)!)));
        // Nor is it once the tree as it was read is gone from the archive.
        Do.Drop(new ImageReference(archive, "1"), default);
        Do.Drop(new ImageReference(archive, "3"), default);
        Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None);
        Do.Capture(folder.At("src"), archive, "fourth");
        Assert.Equal("after!",
            Do.WithTree(archive, 4, t => System.Text.Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("one"), 100)!)));
    }

    [Fact]
    public void TwoDisksMountedInTurnAreTwoSources()
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("mnt"));
        var archive = folder.At("a.vmb");
        foreach (var (name, text) in new[] { ("one", "first."), ("two", "second") })
        {
            using (var file = File.Create(folder.At(name)))
                file.SetLength(16 << 20);
            folder.Write("root/file", text);
            Tools.Run("touch", ["-d", "2020-01-01 UTC", folder.At("root/file")]);
            Tools.Run("mkfs.ext4", ["-q", "-F", "-d", folder.At("root"), folder.At(name)]);
        }
        foreach (var (name, text) in new[] { ("one", "first."), ("two", "second"), ("one", "first.") })
        {
            if (Tools.Try("mount", ["-o", "loop,ro", folder.At(name), folder.At("mnt")]).Code != 0)
                Assert.Skip("this machine mounts nothing");
            try
            {
                var image = Do.Capture(folder.At("mnt"), archive, $"{name} {Guid.NewGuid():N}", r => r with
                {
                    SkipUnreadable = true,
                }).Image;
                Assert.Equal(text,
                    Do.WithTree(archive, image.Number,
                    t => System.Text.Encoding.UTF8.GetString(t.ReadFile(WindowsPath.Parse("file"), 100)!)));
            }
            finally
            {
                Tools.Run("umount", [folder.At("mnt")]);
            }
        }
    }

    [Fact]
    public void WhatLiesInFoldersThatAreReparsePointsIsCapturedAndDeployed()
    {
        const uint Cloud = 0x9000001A, Projection = 0x9000001C;
        using var folder = new TempFolder();
        var volume = Volume(folder);
        Write(volume, v =>
        {
            foreach (var (name, tag) in new[] { ("synced", Cloud), ("projected", Projection) })
            {
                var at = Make(v, NtfsVolume.Root, name, null);
                Make(v, at, "inside.txt", $"in {name}");
                var deeper = Make(v, at, "deeper", null);
                Make(v, deeper, "more.txt", "more");
                using var parent = v.Open(NtfsVolume.Root, "/");
                using var again = v.Open(at, name);
                again.SetReparse(Tag(tag));
                again.Close(parent);
            }
            var junction = Convert.FromHexString("030000a01800000000000c000e0000005c003f003f005c0043003a0000000000");
            Make(v, NtfsVolume.Root, "junction", null, junction);
        });
        var archive = folder.At("a.vmb");
        Do.Capture(volume, archive, "one", r => r with { KeepAll = true });
        List<string> Paths(int image) =>
            Do.WithTree(archive, image, t => t.Walk(t.Root, WindowsPath.Root).Select(e => e.Path.ToString()).ToList());
        Assert.Superset(new HashSet<string> { "synced/inside.txt", "synced/deeper/more.txt", "projected/inside.txt",
            "projected/deeper/more.txt", "junction" }, Paths(1).ToHashSet());
        folder.Write("layout.yaml", "partitions:\n  - role: windows\n    size: 200 MiB\n");
        Assert.Empty(Do.Deploy(archive, folder.At("disk.img"), r => r with
        {
            Size = 300 << 20,
            Layout = folder.At("layout.yaml"),
        }).Differences);
        var back = Do.Capture(folder.At("disk.img"), archive, "back", r => r with { KeepAll = true, Volume = 1 }).Image;
        Assert.Equal(Paths(1), Paths(back.Number));
    }

    [Fact]
    public void AJournalThatWasNotClosedIsFound()
    {
        Assert.True(NtfsJournal.IsClean([]));
        var log = new byte[64 << 10];
        log.AsSpan().Fill(0xFF);
        Assert.True(NtfsJournal.IsClean(log));
        void Page(int at, long number, ushort clients, ushort flags)
        {
            var page = log.AsSpan(at, 4096);
            page.Clear();
            "RSTR"u8.CopyTo(page);
            BinaryPrimitives.WriteUInt32LittleEndian(page[16..], 4096);
            BinaryPrimitives.WriteUInt16LittleEndian(page[24..], 0x30);
            BinaryPrimitives.WriteInt64LittleEndian(page[0x30..], number);
            BinaryPrimitives.WriteUInt16LittleEndian(page[(0x30 + 12)..], clients);
            BinaryPrimitives.WriteUInt16LittleEndian(page[(0x30 + 14)..], flags);
        }
        // Closed: nobody uses it, or it is said to be clean; of the two pages the newer one counts.
        Page(0, 10, 0xFFFF, 0);
        Page(4096, 5, 0, 0);
        Assert.True(NtfsJournal.IsClean(log));
        Page(4096, 11, 0, 0);
        Assert.False(NtfsJournal.IsClean(log));
        Page(4096, 11, 0, 2);
        Assert.True(NtfsJournal.IsClean(log));
        log.AsSpan(0, 8192).Clear();
        Assert.False(NtfsJournal.IsClean(log));
    }

    [Fact]
    public void EmptyStreamsAndEmptyFilesAreRead()
    {
        using var folder = new TempFolder();
        var volume = Volume(folder);
        Write(volume, v =>
        {
            var file = Make(v, NtfsVolume.Root, "empty.txt", "");
            using var parent = v.Open(NtfsVolume.Root, "/");
            using var open = v.Open(file, "empty.txt");
            open.AddStream("nothing").Dispose();
            open.Close(parent);
        });
        Do.Capture(volume, folder.At("a.vmb"), "one", r => r with { KeepAll = true });
        var entry = Do.WithTree(folder.At("a.vmb"), 1, t => t.Find(WindowsPath.Parse("empty.txt")))!;
        Assert.Equal((0, "nothing", 0), (entry.Length, entry.Streams.Single().Name, entry.Streams.Single().Content.Length));
        using var source = NtfsSource.Open("volume", () => FileDevice.Open(volume, write: false));
        Assert.Equal([], source.ReadFile(WindowsPath.Parse("empty.txt"), 10)!);
        Assert.Equal([], source.ReadStart(WindowsPath.Parse("empty.txt"), 10)!);
    }

    [Fact]
    public void WhatIsWrittenCanBeRead()
    {
        using var folder = new TempFolder();
        // As deep as a tree may be, and one deeper.
        const string Script = """
            import os,sys
            for _ in range(int(sys.argv[1])):
                os.mkdir('d'); os.chdir('d')
            open('file','w').write('x')
            """;
        Directory.CreateDirectory(folder.At("src"));
        Tools.Run("python3", ["-c", Script, $"{TreeLimits.MaxDepth - 1}"], folder.At("src"));
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        Assert.True(Do.Verify(archive).Ok);
        Do.Copy(new ImageReference(archive, "1"), folder.At("copy.vmb"), null, default, NoProgress.Instance,
            CancellationToken.None);
        Assert.Empty(Do.Deploy(archive, folder.At("out")).Differences);
        Tools.Run("sh", ["-c", "cd src; mkdir e; mv d e/d"], folder.Path);
        Assert.Equal("too-deep", Assert.Throws<VembarException>(() => Do.Capture(folder.At("src"), archive, "two")).Code);
    }

    [Fact]
    public void FilesWithVeryManyAttributesAreCutIntoPages()
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        // On a file system in memory, whose files may have as many as there is room for; elsewhere fewer.
        var made = Tools.Try("python3", ["-c", """
            import os,sys
            for i in range(120):
                p=os.path.join(sys.argv[1],'f%d'%i)
                open(p,'w').close()
                for k in range(4):
                    try: os.setxattr(p,'user.a%d'%k,os.urandom(60000))
                    except OSError: os.setxattr(p,'user.a%d'%k,os.urandom(900)) if k==0 else None
            """, folder.At("src")]);
        Assert.Equal(0, made.Code);
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        Assert.True(Do.Verify(archive).Ok);
        Assert.Equal(120, Do.WithTree(archive, 1, t => t.Names(WindowsPath.Root).Count));
        // A single edit of it gives what a capture gives.
        File.Delete(folder.At("src/f7"));
        Do.Service(archive + "#1", "without", new RemoveChange("f7"));
        var again = Do.Capture(folder.At("src"), folder.At("fresh.vmb")).Image;
        Assert.Equal(119, again.Files);
        Assert.Equal(119, Do.WithTree(archive, 2, t => t.Names(WindowsPath.Root).Count));
    }

    [Theory]
    [InlineData("fifo")]
    [InlineData("socket")]
    [InlineData("null")]
    public void SpecialFilesAreRefusedAndNeverWaitedFor(string kind)
    {
        using var folder = new TempFolder();
        folder.Write("src/x", "x");
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        var special = kind == "null" ? "/dev/null" : folder.At("special");
        if (kind == "fifo")
            Tools.Run("mkfifo", [special]);
        else if (kind == "socket")
            Tools.Run("python3", ["-c", "import socket,sys; socket.socket(socket.AF_UNIX).bind(sys.argv[1])", special]);
        Action[] uses =
        [
            () => ArchiveReader.Open(special).Dispose(), () => Do.Capture(folder.At("src"), special, "two"),
            () => Do.Capture(special, archive, "two"), () => Do.Capture(folder.At("src"), archive, "two", r => r with { Rules = special }),
            () => Do.Survey(special, NoProgress.Instance, CancellationToken.None), () => WorkOrder.Read(special),
            () => Do.Deploy(archive, special, r => r with { MayErase = _ => true }),
            () => Do.Deploy(archive, special, r => r with
            {
                Volume = 1,
            }), () => Do.Deploy(archive, folder.At("out"), r => r with { Layout = special, Size = 1L << 30 }),
            () => Do.Recover(special, folder.At("new.vmb"), NoProgress.Instance, CancellationToken.None),
            () => Package.Read(special),
        ];
        Assert.All(uses, use => Assert.IsType<VembarException>(Record.Exception(use)));
        Assert.Equal(ChangeStatus.Refused, Do.Service(archive + "#1", "new", new PutChange(special, "y")).Changes.Single().Status);
        if (kind == "null")
            return;
        File.Move(special, folder.At("src/special"));
        Assert.Contains(Do.Capture(folder.At("src"), archive, "with").Excluded, l => l.Path == "special");
    }
}

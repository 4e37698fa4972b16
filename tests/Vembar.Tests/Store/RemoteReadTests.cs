using System.Buffers.Binary;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Files;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

/// <summary>Reading an archive whose every request is dear.</summary>
public sealed class RemoteReadTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static ImageRecord Record(ChunkId root, string name) => new()
    {
        Number = 0,
        Name = name,
        Note = $"Reading room, {name}, prepared for the rooms on the second floor",
        Labels = new Dictionary<string, string> { ["site"] = "North quay", ["owner"] = "desks team" },
        Created = DateTime.UnixEpoch,
        Root = root,
        Files = 1000,
        Origin = new ImageOrigin { Kind = "folder", From = "/reference/desk" },
    };

    // Each image has folders of its own with new files, a hundred in each, beside all folders of the ones before.
    private string Archive(int images, int files)
    {
        var archive = _folder.At($"{images}-{files}.vmb");
        _folder.Write("src/first.txt", "first");
        var root = Do.Capture(_folder.At("src"), archive, "first").Image.Root;
        var random = new Random(71);
        for (var image = 1; image <= images; image++)
        {
            using var writer = Do.Write(archive, create: false);
            var editor = new TreeEditor(new ImageTree(writer.Base, root, "before"));
            for (var file = 0; file < files / images; file++)
            {
                var content = new byte[20];
                random.NextBytes(content);
                editor.PutFile(WindowsPath.Parse($"folder {image:D3}-{file / 100:D3}/file {file % 100:D3}"),
                    new NewContent(content, null, content.Length));
            }
            root = editor.Save(writer);
            writer.CommitImage(Record(root, $"desk {image}"), null, $"capture {image}");
        }
        return archive;
    }

    private static ArchiveReader Open(MemoryByteSource source) =>
        ArchiveReader.Open(source, "memory.vmb");

    [Fact]
    public void ListingAHundredImagesOfAHundredThousandFilesTakesSixRequestsAndOneMebibyte()
    {
        var bytes = File.ReadAllBytes(Archive(100, 100_000));
        var source = new MemoryByteSource(bytes);
        using (var archive = Open(source))
        {
            Assert.Equal(Enumerable.Range(1, 101), archive.Images.Select(i => i.Number));
            Assert.Equal("desk 100", archive.Find("last").Name);
        }
        TestContext.Current.SendDiagnosticMessage($"list: {source.Requests} requests, {source.Ranges} ranges, {source.Bytes} bytes");
        Assert.InRange(source.Requests, 1, 6);
        Assert.InRange(source.Bytes, 1, 1 << 20);
        // Beside a record of each image few: a hundred changes of the same size leave some log n segments.
        Assert.InRange(source.Ranges, 101, 120);
        // One folder of the first image, of one in the middle, of the last.
        foreach (var image in (int[])[1, 50, 100])
        {
            source = new MemoryByteSource(bytes);
            using (var archive = Open(source))
            {
                var tree = new ImageTree(archive, archive.Find($"desk {image}").Root, "image");
                Assert.Equal(100, FileSearch.Find(tree, $"folder {image:D3}-003", deep: false).Count());
            }
            TestContext.Current.SendDiagnosticMessage($"files: {source.Requests} requests, {source.Ranges} ranges, {source.Bytes} bytes");
            Assert.InRange(source.Requests, 1, 10);
        }
    }

    // A page of the index that is damaged is not what opening looks at; whoever misses a chunk hears what is wrong.
    [Fact]
    public void ADamagedPageOfALargeIndexIsTold()
    {
        var archive = Archive(1, 30_000);
        var bytes = File.ReadAllBytes(archive);
        var record = bytes.AsSpan(bytes.Length - 192);
        var index = (int)BinaryPrimitives.ReadInt64LittleEndian(record[40..]);
        var length = (int)BinaryPrimitives.ReadInt64LittleEndian(record[48..]);
        Assert.InRange(length, 64 << 10, 1 << 22);
        // Chunks' rows fill most of it, of 44 bytes each.
        for (var at = length / 4; at < length * 3 / 4; at += 44)
            bytes[index + at] ^= 0x55;
        using var reader = Open(new MemoryByteSource(bytes));
        Assert.Equal(2, reader.Images.Count);
        var problem = Assert.Throws<VembarException>(() =>
        {
            var tree = new ImageTree(reader, reader.Find("desk 1").Root, "image");
            foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Kind == EntryKind.File))
                tree.ReadAll(entry.Content!, path, 100);
        });
        Assert.Contains($"damaged index at byte {index}", problem.Message, StringComparison.Ordinal);
        Assert.Equal(ErrorKind.Damaged, problem.Kind);
    }

    [Fact]
    public void DamagedIndexesReadByPageEndInOrder()
    {
        var good = File.ReadAllBytes(Archive(1, 2_000));
        var record = good.AsSpan(good.Length - 192);
        var index = (int)BinaryPrimitives.ReadInt64LittleEndian(record[40..]);
        var length = (int)BinaryPrimitives.ReadInt64LittleEndian(record[48..]);
        Assert.InRange(length, 64 << 10, 1 << 20);
        var random = new Random(72);
        var (sound, damaged) = (0, 0);
        for (var round = 0; round < 400; round++)
        {
            var bytes = good.ToArray();
            // Its checksum is not looked at before something is found to be wrong.
            for (var i = 0; i <= round % 3; i++)
            {
                var at = random.Next(3) == 0 ? random.Next(length - 4) : random.Next(Math.Min(2000, length - 4));
                BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(index + at),
                    random.Next(3) switch { 0 => uint.MaxValue, 1 => (uint)random.Next(1000), _ => (uint)random.NextInt64(1L << 32) });
            }
            try
            {
                using var archive = Open(new MemoryByteSource(bytes));
                var tree = new ImageTree(archive, archive.Find("desk 1").Root, "image");
                foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Kind == EntryKind.File).Take(300))
                    tree.ReadAll(entry.Content!, path, 100);
                sound++;
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                damaged++;
            }
        }
        Assert.InRange(sound, 20, 380);
        Assert.Equal(400, sound + damaged);
    }

    [Fact]
    public void ChunksAreFoundInPagesAsInAWholeIndex()
    {
        var archive = Archive(3, 9_000);
        using var local = ArchiveReader.Open(archive);
        using var remote = Open(new MemoryByteSource(File.ReadAllBytes(archive)));
        var trees = new[] { local, remote }.Select(r => new ImageTree(r, r.Find("desk 3").Root, "image")).ToArray();
        var contents = trees.Select(t => t.Walk(t.Root, WindowsPath.Root).Where(e => e.Entry.Kind == EntryKind.File)
            .Select(e => (e.Path, Bytes: Convert.ToHexString(t.ReadAll(e.Entry.Content!, e.Path, 100)))).ToList()).ToArray();
        Assert.Equal(9_001, contents[0].Count);
        Assert.Equal(contents[0], contents[1]);
        Assert.False(remote.Contains(Blake3.Hash("nowhere"u8)));
    }
}

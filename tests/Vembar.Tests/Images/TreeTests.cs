using CsCheck;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>A store of chunks in memory, to hand the reader of trees whatever bytes a test likes.</summary>
internal sealed class MemoryChunks(IReadOnlyDictionary<ChunkId, byte[]> chunks) : IChunkSource
{
    public bool Contains(ChunkId id) => chunks.ContainsKey(id);

    public ReadOnlyMemory<byte> Read(ChunkId id) =>
        chunks.TryGetValue(id, out var bytes) ? bytes : throw VembarException.Damaged($"no chunk {id}");
}

public class TreeTests(DemoFixture demo)
{
    // Every chunk of an image's folders, by walking it.
    private static Dictionary<ChunkId, byte[]> TreeChunks(ArchiveReader archive, ChunkId root)
    {
        var chunks = new Dictionary<ChunkId, byte[]> { [root] = archive.Read(root).ToArray() };
        var tree = new ImageTree(archive, root, "test");
        void Add(TreeEntry folder, WindowsPath path)
        {
            chunks[folder.Folder] = archive.Read(folder.Folder).ToArray();
            foreach (var entry in tree.List(folder, path).Where(e => e.Kind == EntryKind.Folder))
                Add(entry, path.Child(entry.Name));
        }
        Add(tree.Root, WindowsPath.Root);
        return chunks;
    }

    [Fact]
    public void DamagedFoldersGiveAnErrorAndNeverACrash()
    {
        using var archive = ArchiveReader.Open(demo.Archive);
        var root = archive.Images[0].Root;
        var good = TreeChunks(archive, root);
        var ids = good.Keys.ToList();
        var random = new Random(11);
        var refused = 0;
        for (var round = 0; round < 1500; round++)
        {
            var id = ids[random.Next(ids.Count)];
            var bytes = good[id].ToArray();
            switch (random.Next(3))
            {
                case 0:
                    bytes[random.Next(bytes.Length)] ^= (byte)(1 << random.Next(8));
                    break;
                case 1:
                    bytes = bytes[..random.Next(bytes.Length)];
                    break;
                default:
                    bytes[random.Next(bytes.Length)] = 0xFF;
                    break;
            }
            var chunks = new Dictionary<ChunkId, byte[]>(good) { [id] = bytes };
            try
            {
                var tree = new ImageTree(new MemoryChunks(chunks), root, "test");
                foreach (var (path, entry) in tree.Walk(tree.Root, WindowsPath.Root).Take(3000))
                {
                    Assert.DoesNotContain("/", entry.Name, StringComparison.Ordinal);
                    Assert.NotEqual("..", entry.Name);
                    Assert.NotEqual("", entry.Name);
                    if (entry.Content is not null)
                        tree.Parts(entry.Content, path);
                }
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Damaged, problem.Kind);
                refused++;
            }
        }
        Assert.InRange(refused, 200, 1500);
    }

    [Fact]
    public void AllThatNtfsKeepsOfAFileComesBack()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        var time = new FileTime(133_000_000_000_000_001);
        var big = Enumerable.Range(0, 3_000_000).Select(i => (byte)(i * 7 >> 3)).ToArray();
        ChunkId security;
        using (var writer = Do.Write(archive, create: true))
        {
            security = writer.Add(BlockKind.Tree, [1, 0, 4, 128, 0, 0, 0, 0]);
            var stream = writer.Add(BlockKind.Content, "zone"u8);
            var file = new TreeEntry
            {
                Name = "\uD800 odd\u0301.txt",
                Kind = EntryKind.File,
                Content = FileContent.Empty,
                Attributes = WindowsAttributes.Hidden | WindowsAttributes.ReadOnly,
                Created = time,
                Modified = new FileTime(5, 99),
                Changed = new FileTime(7),
                Accessed = new FileTime(0),
                Security = security,
                Reparse = [1, 2, 3, 4],
                ShortName = "ODD~1.TXT",
                LinkGroup = 77,
                ObjectId = new byte[16],
                ExtendedAttributes = [new NamedValue("EA", [9], 0x80)],
                Streams = [new NamedStream("Zone.Identifier", new FileContent(4, stream, [new ContentPart(stream, 4)]))],
                Owner = new PosixOwner(0x9ED, 1000, 100),
                PosixAttributes = [new NamedValue("user.x", [1, 2])],
            };
            var link = new TreeEntry { Name = "link", Kind = EntryKind.Link, LinkTarget = "../elsewhere" };
            var sub = new TreeEntry
            {
                Name = "CaseFolder",
                Kind = EntryKind.Folder,
                CaseSensitive = true,
                Attributes = WindowsAttributes.Directory,
                Folder = writer.Add(BlockKind.Tree, "F\0\0"u8),
            };
            var editor = EmptyImage(file, link, sub);
            editor.PutFile(WindowsPath.Parse("large"), new NewContent(big, null, big.Length));
            var root = editor.Save(writer);
            writer.CommitImage(Record(root), null, "test");
        }
        using var reader = ArchiveReader.Open(archive);
        var tree = new ImageTree(reader, reader.Images[0].Root, "test");
        var read = tree.Find(WindowsPath.Parse("\uD800 odd\u0301.txt"))!;
        Assert.Equal(WindowsAttributes.Hidden | WindowsAttributes.ReadOnly, read.Attributes);
        Assert.Equal((time, new FileTime(5, 99), new FileTime(7), new FileTime(0)),
            (read.Created!.Value, read.Modified!.Value, read.Changed!.Value, read.Accessed!.Value));
        Assert.Equal(security, read.Security);
        Assert.Equal([1, 2, 3, 4], read.Reparse!);
        Assert.Equal("ODD~1.TXT", read.ShortName);
        Assert.Equal(77UL, read.LinkGroup);
        Assert.Equal(16, read.ObjectId!.Length);
        Assert.Equal(("EA", (byte)0x80), (read.ExtendedAttributes[0].Name, read.ExtendedAttributes[0].Flags));
        Assert.Equal("zone", System.Text.Encoding.ASCII.GetString(tree.ReadAll(read.Streams[0].Content, WindowsPath.Root, 10)));
        Assert.Equal(new PosixOwner(0x9ED, 1000, 100), read.Owner);
        Assert.Equal([1, 2], read.PosixAttributes[0].Value);
        Assert.Equal("../elsewhere", tree.Find(WindowsPath.Parse("LINK"))!.LinkTarget);
        Assert.True(tree.Find(WindowsPath.Parse("casefolder"))!.CaseSensitive);
        var large = tree.Find(WindowsPath.Parse("large"))!;
        Assert.Equal(big, tree.ReadAll(large.Content!, WindowsPath.Root, big.Length));
        Assert.Equal(Blake3.Hash(big), large.Content!.Hash);
        Assert.Equal("file-too-large", Assert.Throws<VembarException>(() => tree.ReadAll(large.Content!, WindowsPath.Root, 1000)).Code);
        reader.Dispose();
        Assert.True(Do.Verify(archive).Ok);
    }

    private static readonly string[] s_names = ["a", "b", "A", "c.txt", "d"];

    // An editor over an image that holds the given entries; folders among them are empty.
    private static TreeEditor EmptyImage(params TreeEntry[] entries)
    {
        var empty = new ImageTree(new MemoryChunks(new Dictionary<ChunkId, byte[]> { [RootId] = RootBytes }), RootId, "test");
        return new TreeEditor(empty, entries.Select(e => (WindowsPath.Root.Child(e.Name), e)));
    }

    // The root node of an empty image, written by hand from docs/archive-format.md.
    private static readonly byte[] RootBytes = [(byte)'F', 0, 1, 0, 2, 0x80, 0x01, .. Blake3.Hash("F\0\0"u8).ToBytes()];

    private static ChunkId RootId => Blake3.Hash(RootBytes);

    private static ImageRecord Record(ChunkId root) => new()
    {
        Number = 0,
        Name = "test",
        Created = DateTime.UtcNow,
        Root = root,
        Origin = new ImageOrigin { Kind = "image", From = "test" },
    };

    [Fact]
    public void AnEditWritesTheFoldersOnItsWayAndNoOthers()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        ChunkId before;
        using (var reader = ArchiveReader.Open(archive))
            before = reader.Images[0].Root;
        using (var writer = Do.Write(archive, create: false))
        {
            var editor = new TreeEditor(new ImageTree(writer.Base, before, "test"));
            editor.PutFile(WindowsPath.Parse("windows/help/NEW.txt"), new NewContent("new"u8.ToArray(), null, 3));
            writer.CommitImage(Record(editor.Save(writer)), null, "test");
        }
        using var after = ArchiveReader.Open(archive);
        var one = TreeChunks(after, before).Keys.ToHashSet();
        var other = TreeChunks(after, after.Images[1].Root).Keys.ToHashSet();
        // The root node, the root folder, Windows, Help.
        Assert.Equal(4, other.Except(one).Count());
        Assert.NotNull(new ImageTree(after, after.Images[1].Root, "test").Find(WindowsPath.Parse("Windows/Help/NEW.txt")));
    }

    [Fact]
    public void RandomEditsGiveWhatASimpleModelGives()
    {
        var path = Gen.Int[0, 4].Select(i => s_names[i]).Array[1, 3].Select(p => string.Join('/', p));
        Gen.Select(Gen.Bool, path, Gen.Byte.Array[0, 20]).Array[1, 25].Sample(edits =>
        {
            using var folder = new TempFolder();
            var archive = folder.At("a.vmb");
            var model = new Dictionary<string, byte[]>(StringComparer.OrdinalIgnoreCase);
            using (var writer = Do.Write(archive, create: true))
            {
                var editor = EmptyImage();
                foreach (var (put, where, bytes) in edits)
                {
                    if (put)
                    {
                        var blocked = model.Keys.Any(k => k.StartsWith(where + "/", StringComparison.OrdinalIgnoreCase)
                            || where.StartsWith(k + "/", StringComparison.OrdinalIgnoreCase))
                            || editor.Find(WindowsPath.Parse(where)) is { Entry.Kind: EntryKind.Folder };
                        try
                        {
                            editor.PutFile(WindowsPath.Parse(where), new NewContent(bytes, null, bytes.Length));
                            Assert.False(blocked);
                            model[where] = bytes;
                        }
                        catch (VembarException)
                        {
                            Assert.True(blocked);
                        }
                    }
                    else if (editor.Find(WindowsPath.Parse(where)) is { } node)
                    {
                        editor.Remove(node);
                        foreach (var key in model.Keys.Where(k => k.Equals(where, StringComparison.OrdinalIgnoreCase)
                            || k.StartsWith(where + "/", StringComparison.OrdinalIgnoreCase)).ToList())
                            model.Remove(key);
                    }
                }
                Assert.Equal(model.Count, editor.FilesDelta);
                Assert.Equal(model.Values.Sum(v => v.Length), editor.BytesDelta);
                if (!editor.HasChanges)
                    return;
                writer.CommitImage(Record(editor.Save(writer)), null, "test");
            }
            Do.WithTree(archive, 1, tree =>
            {
                var files = tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Kind == EntryKind.File).ToList();
                Assert.Equal(model.Count, files.Count);
                foreach (var (key, bytes) in model)
                    Assert.Equal(bytes, tree.ReadFile(WindowsPath.Parse(key), 100));
                return 0;
            });
        }, iter: 40);
    }

    [Fact]
    public void AFolderOfManyFilesIsCutIntoPagesAndAnEditRewritesOne()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 9000; i++)
            folder.Write($"src/file{i}", $"{i % 50}");
        var archive = folder.At("a.vmb");
        var first = Do.Capture(folder.At("src"), archive);
        Assert.Equal(9000, Do.WithTree(archive, 1, t => t.Names(WindowsPath.Root).Count));
        File.WriteAllText(folder.At("src/file4000"), "changed");
        var second = Do.Capture(folder.At("src"), archive, "two");
        Assert.InRange(second.Stats.BytesStored, 1, first.Stats.BytesStored / 3);
        Assert.True(Do.Verify(archive).Ok);
        // Read a page at a time and as a whole, it is the same; and any name is found, in whatever case.
        Do.WithTree(archive, 2, tree =>
        {
            var whole = tree.List(tree.Root, WindowsPath.Root);
            Assert.Equal(whole.Select(e => (e.Name, e.Modified, e.Content!.Hash)),
                tree.Entries(tree.Root, WindowsPath.Root).Select(e => (e.Name, e.Modified, e.Content!.Hash)));
            Assert.Equal(whole.Select(e => e.Name), tree.Walk(tree.Root, WindowsPath.Root).Select(e => e.Path.ToString()));
            Assert.All([0, 1, 4000, 8998, 8999], i => Assert.Equal($"file{i}", tree.Find(WindowsPath.Parse($"file{i}"))?.Name));
            Assert.Equal("file77", tree.Find(WindowsPath.Parse("FILE77"))?.Name);
            Assert.Null(tree.Find(WindowsPath.Parse("file9000")));
            Assert.Empty(tree.Folders(WindowsPath.Root));
            return 0;
        });
        // What goes away and comes in the middle of it, and beside it.
        File.Delete(folder.At("src/file4001"));
        folder.Write("src/file4001a", "new");
        folder.Write("src/inner/file", "new");
        var third = Do.Capture(folder.At("src"), archive, "three");
        var alone = Do.Capture(folder.At("src"), folder.At("alone.vmb"));
        Assert.Equal(alone.Image.Root, third.Image.Root);
        Assert.Equal(["inner"], Do.WithTree(archive, 3, t => t.Folders(WindowsPath.Root)));
    }

    [Theory]
    [InlineData(2047)]
    [InlineData(2048)]
    [InlineData(2049)]
    public void AFolderIsTheSameHoweverItCameToBe(int count)
    {
        // Around the size at which a folder is cut into pages: grown by servicing, shrunk by servicing, captured at once.
        using var folder = new TempFolder();
        var random = new Random(count);
        void Write(int i)
        {
            var path = folder.Write($"src/{(uint)(i * 2654435761u):x8} {i}", $"{i}");
            File.SetLastWriteTimeUtc(path, new DateTime(2026, 9, 1, 6, 0, 0, DateTimeKind.Utc));
        }
        for (var i = 0; i < count; i++)
            Write(i);
        ChunkId Folder(string archive) => Do.WithTree(archive, 1, t => t.Root.Folder);
        Do.Capture(folder.At("src"), folder.At("right.vmb"));
        var files = Directory.GetFiles(folder.At("src"));
        // One less, and it comes back from another archive by servicing, with the times it has.
        var one = files[random.Next(files.Length)];
        Directory.CreateDirectory(folder.At("kept"));
        File.Move(one, folder.At($"kept/{Path.GetFileName(one)}"));
        Do.Capture(folder.At("src"), folder.At("less.vmb"));
        Assert.NotEqual(Folder(folder.At("right.vmb")), Folder(folder.At("less.vmb")));
        Do.Service(folder.At("right.vmb") + "#1", null, new RemoveChange(Path.GetFileName(one)));
        Assert.Equal(Folder(folder.At("less.vmb")), Folder(folder.At("right.vmb")));
        // A capture that finds the earlier image writes what one without it writes.
        File.Move(folder.At($"kept/{Path.GetFileName(one)}"), one);
        var again = Do.Capture(folder.At("src"), folder.At("less.vmb"), "again");
        Do.Capture(folder.At("src"), folder.At("alone.vmb"));
        Assert.Equal(Folder(folder.At("alone.vmb")), Do.WithTree(folder.At("less.vmb"), again.Image.Number, t => t.Root.Folder));
        Assert.Equal(count, Do.WithTree(folder.At("alone.vmb"), 1, t => t.Entries(t.Root, WindowsPath.Root).Count()));
        Assert.True(Do.Verify(folder.At("less.vmb")).Ok && Do.Verify(folder.At("right.vmb")).Ok);
    }

    [Fact]
    public void AMessageNamesTheWholePathWhereverTheFileWasTakenFrom()
    {
        using var folder = new TempFolder();
        var bytes = new byte[6_000_000];
        new Random(2).NextBytes(bytes);
        folder.Write("src/a/b/c/deep.bin", bytes);
        folder.Write("src/a/b/other", "other");
        var archive = folder.At("a.vmb");
        Do.Capture(folder.At("src"), archive);
        // Stored as it is, so its bytes stand in the archive.
        var whole = File.ReadAllBytes(archive);
        whole[whole.AsSpan().IndexOf(bytes.AsSpan(5_500_000, 16))] ^= 1;
        File.WriteAllBytes(archive, whole);
        string Of(Action action) => Assert.Throws<VembarException>(action).Message;
        Assert.Contains("'a/b/c/deep.bin'",
            Of(() => Do.Take(ImageReference.Parse(archive), ["a/b/c/deep.bin"], folder.At("one"), NoProgress.Instance,
            CancellationToken.None)), StringComparison.Ordinal);
        Assert.Contains("'a/b/c/deep.bin'",
            Of(() => Do.Take(ImageReference.Parse(archive), ["a/b/c"], folder.At("two"), NoProgress.Instance,
            CancellationToken.None)), StringComparison.Ordinal);
        Assert.Contains("'a/b/c/deep.bin'", Of(() => Do.Deploy(archive, folder.At("three"))), StringComparison.Ordinal);
        // What else is there is whole, and is gone on from when the archive was healed.
        Assert.False(File.Exists(folder.At("three/a/b/c/deep.bin")));
        // What lies in other blocks is taken.
        Do.Take(ImageReference.Parse(archive), ["a/b/other"], folder.At("four"), NoProgress.Instance, CancellationToken.None);
        Assert.Equal("other", File.ReadAllText(folder.At("four/other")));
    }

    [Theory]
    [InlineData("")]
    [InlineData("Z")]
    [InlineData("X\u0005")]
    [InlineData("F\u0000\u0001")]
    public void AFolderThatIsNoneIsToldByEveryCommandThatMeetsIt(string node)
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        using (var writer = Do.Write(archive, create: true))
        {
            var wrong = writer.Add(BlockKind.Tree, System.Text.Encoding.ASCII.GetBytes(node));
            // docs/archive-format.md, "Trees": a page with one entry, the root folder, that has nothing but its node's id.
            var root = writer.Add(BlockKind.Tree, [(byte)'F', 0, 1, 0, 2, 0x80, 0x01, .. Convert.FromHexString(wrong.ToString())]);
            writer.CommitImage(Record(root), null, "test");
        }
        void Damaged(Action action) => Assert.Equal(ErrorKind.Damaged, Assert.Throws<VembarException>(action).Kind);
        Damaged(() => Do.Copy(ImageReference.Parse(archive), folder.At("b.vmb"), null, default, NoProgress.Instance,
            CancellationToken.None));
        Damaged(() => Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None));
        Damaged(() => Do.Deploy(archive, folder.At("out")));
        Damaged(() => Do.WithTree(archive, 1, t => t.Names(WindowsPath.Root).Count));
        Damaged(() => Do.WithTree(archive, 1, t => t.Find(WindowsPath.Parse("x"))));
        Assert.NotEmpty(Do.Verify(archive).Damage);
        Assert.False(File.Exists(folder.At("b.vmb")));
    }
}

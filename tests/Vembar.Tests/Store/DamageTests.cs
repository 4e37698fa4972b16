using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.History;
using Vembar.Operations.Service;
using Vembar.Operations.Verify;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Damage costs what it hits and nothing else: states, lists of images and records are there twice.</summary>
public class DamageTests
{
    private const int RecordLength = 192, Sector = 512;

    private static string Noise(TempFolder folder, string path, int length, int seed)
    {
        var bytes = new byte[length];
        new Random(seed).NextBytes(bytes);
        return folder.Write(path, bytes);
    }

    // Three images in three states.
    private static string Prepared(TempFolder folder, string name = "a.vmb")
    {
        var archive = folder.At(name);
        foreach (var (tree, i) in ((string[])["one", "two", "three"]).Select((t, i) => (t, i)))
        {
            Noise(folder, $"{tree}/noise", 9_000 + i, i);
            folder.Write($"{tree}/in/text", $"text of {tree}");
            Do.Capture(folder.At(tree), archive, tree);
        }
        return archive;
    }

    private static string State(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return string.Join(';', reader.Images.Select(i => $"{i.Number} {i.Name}"));
    }

    // Places in the last state of a whole archive: its two records and its index.
    private static (int First, int Second, int Index) Places(byte[] archive)
    {
        var record = archive.AsSpan(archive.Length - RecordLength);
        return ((int)BinaryPrimitives.ReadInt64LittleEndian(record[112..]), archive.Length - RecordLength,
            (int)BinaryPrimitives.ReadInt64LittleEndian(record[40..]));
    }

    private static VerifyResult Repair(string archive, string from) =>
        Do.Repair(archive, [from], default, NoProgress.Instance, CancellationToken.None);

    [Fact]
    public void NoDamagedSectorCostsAStateAndACopyHealsIt()
    {
        using var folder = new TempFolder();
        var archive = Prepared(folder);
        var good = File.ReadAllBytes(archive);
        var states = Do.History(archive);
        var damaged = folder.At("damaged.vmb");
        var random = new Random(3);
        // The header is in the first one; without it nothing can be opened, and all is recovered.
        for (var at = Sector; at < good.Length; at += Sector)
        {
            var bytes = good.ToArray();
            random.NextBytes(bytes.AsSpan(at, Math.Min(Sector, bytes.Length - at)));
            File.WriteAllBytes(damaged, bytes);
            var found = Do.History(damaged);
            Assert.Equal(states.Select(s => s.Number), found.Select(s => s.Number));
            Assert.Equal(states.Select(s => string.Join(';', s.Images)), found.Select(s => string.Join(';', s.Images)));
            Assert.False(Do.Verify(damaged).Ok, $"the sector at {at} was damaged and nobody noticed");
            var healed = Repair(damaged, archive);
            // An index of an earlier state that a copy has is put back; so is all else.
            Assert.True(healed.Ok, $"the sector at {at}: {string.Join("; ", healed.Damage.Select(d => d.Problem))}");
            Assert.Equal(State(archive), State(damaged));
            Do.Deploy(damaged + "#3", folder.At($"out{at}"));
        }
        File.WriteAllBytes(damaged, [.. new byte[Sector], .. good[Sector..]]);
        var saved = Do.Recover(damaged, folder.At("saved.vmb"), NoProgress.Instance, CancellationToken.None);
        Assert.Equal(["one", "two", "three"], saved.Images.Select(i => i.Name));
    }

    [Fact]
    public void AStateWhoseRecordsAreBothDamagedIsNotWrittenOver()
    {
        using var folder = new TempFolder();
        var archive = Prepared(folder);
        var good = File.ReadAllBytes(archive);
        var (first, second, _) = Places(good);
        var random = new Random(9);
        for (var round = 0; round < 60; round++)
        {
            var bytes = good.ToArray();
            bytes[first + random.Next(RecordLength)] ^= (byte)(1 << random.Next(8));
            bytes[second + random.Next(RecordLength)] ^= (byte)(1 << random.Next(8));
            if (round % 4 == 3)
                random.NextBytes(bytes.AsSpan(first, RecordLength));
            var damaged = folder.Write("damaged.vmb", bytes);
            using (var reader = ArchiveReader.Open(damaged))
                Assert.Equal((true, 2), (reader.IsNewerStateDamaged, reader.Images.Count));
            Assert.Contains("a newer state", Assert.Single(Do.Verify(damaged).Damage).Problem, StringComparison.Ordinal);
            Action[] writing =
            [
                () => Do.Capture(folder.At("one"), damaged, "again"), () => Do.Drop(new ImageReference(damaged, "1"), default),
                () => Do.Retitle(new RetitleRequest
                {
                    Image = new ImageReference(damaged, "1"),
                    Note = "x",
                }), () => Do.Service(damaged + "#1", "new", new RemoveChange("noise")),
                () => Do.Rewind(damaged, 1, default),
                () => Do.Compact(damaged, null, default, NoProgress.Instance, CancellationToken.None),
                () => Do.Copy(new ImageReference(damaged, "1"), damaged, "copy", default, NoProgress.Instance,
                CancellationToken.None),
            ];
            Assert.All(writing, write => Assert.Equal(ErrorKind.Damaged, Assert.Throws<VembarException>(write).Kind));
            Assert.Equal(bytes, File.ReadAllBytes(damaged));
            File.Delete(folder.At("saved.vmb"));
            var saved = Do.Recover(damaged, folder.At("saved.vmb"), NoProgress.Instance, CancellationToken.None);
            Assert.Equal((3, 0), (saved.Images.Count, saved.Lost.Count));
            Assert.True(Do.Verify(folder.At("saved.vmb")).Ok);
            if (round % 2 == 0)
            {
                Assert.True(Repair(damaged, archive).Ok);
                Assert.Equal(good, File.ReadAllBytes(damaged));
            }
            else
            {
                Assert.True(Do.GiveUpNewer(damaged, default, NoProgress.Instance, CancellationToken.None).Ok);
                Assert.Equal("again", Do.Capture(folder.At("three"), damaged, "again").Image.Name);
                Assert.True(Do.Verify(damaged).Ok);
            }
        }
    }

    [Fact]
    public void AnImageWhoseRecordIsLostIsListedAsSuchAndTheOthersWork()
    {
        using var folder = new TempFolder();
        var archive = Prepared(folder);
        var good = File.ReadAllBytes(archive);
        // Record blocks come twice in each state, and alone are the same to the byte.
        var blocks = Blocks(good).Where(b => b.Kind == BlockKind.Record).ToList();
        var pairs = blocks.GroupBy(b => good.AsSpan(b.At, b.Length).ToArray(), b => b, new SameBytes()).Where(g => g.Count() == 2).ToList();
        Assert.Equal(4, pairs.Count);
        var bytes = good.ToArray();
        foreach (var block in pairs[2])
            bytes[block.At + block.Length - 5] ^= 0x10;
        var damaged = folder.Write("damaged.vmb", bytes);
        // The second state's list is a part of the third's, so without it none can be told; its record is that of image 2.
        var states = Do.History(damaged);
        Assert.Equal(4, states.Count);
        Assert.NotEqual("", states[2].Problem);
        Assert.Contains("damaged in both", Assert.Throws<VembarException>(() => State(damaged)).Message, StringComparison.Ordinal);
        // A sound state beside it can be gone back to.
        File.Copy(damaged, folder.At("back.vmb"));
        Assert.Equal([(1, "one", "")], Do.Rewind(folder.At("back.vmb"), 1, default).Images);
        Assert.Equal("1 one", State(folder.At("back.vmb")));
        Assert.Equal(4, Do.Capture(folder.At("two"), folder.At("back.vmb"), "new").Image.Number);
        Assert.True(Repair(damaged, archive).Ok);
        Assert.Equal(State(archive), State(damaged));

        // With a list of their own, the others work.
        Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None);
        for (var i = 0; i < 20; i++)
            Do.Retitle(new RetitleRequest { Image = new ImageReference(archive, "3"), Note = $"note {i}" });
        good = File.ReadAllBytes(archive);
        var lost = 0;
        foreach (var pair in Blocks(good).Where(b => b.Kind == BlockKind.Record)
            .GroupBy(b => good.AsSpan(b.At, b.Length).ToArray(), b => b, new SameBytes()).Where(g => g.Count() == 2))
        {
            bytes = good.ToArray();
            foreach (var block in pair)
                bytes[block.At + block.Length - 5] ^= 0x10;
            damaged = folder.Write("damaged.vmb", bytes);
            using (var reader = Opened(damaged))
            {
                if (reader is { LostImages.Count: > 0 })
                {
                    lost++;
                    Assert.Equal(3, reader.Images.Count + reader.LostImages.Count);
                    Assert.Contains($"image {reader.LostImages[0].Number}",
                        Assert.Throws<VembarException>(() => reader.Find($"{reader.LostImages[0].Number}")).Message,
                        StringComparison.Ordinal);
                    Do.Deploy($"{damaged}#{reader.Images[0].Number}", folder.At($"out{lost}"));
                    Assert.Equal("more", Do.Capture(folder.At("one"), folder.Write("more.vmb", bytes), "more").Image.Name);
                }
            }
            Assert.True(Repair(damaged, archive).Ok);
            Assert.Equal(State(archive), State(damaged));
        }
        Assert.InRange(lost, 1, 3);
    }

    private static ArchiveReader? Opened(string archive)
    {
        try
        {
            return ArchiveReader.Open(archive);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            return null;
        }
    }

    private sealed class SameBytes : IEqualityComparer<byte[]>
    {
        public bool Equals(byte[]? x, byte[]? y) => x.AsSpan().SequenceEqual(y);

        public int GetHashCode(byte[] bytes) => bytes.Length;
    }

    // The blocks of an archive by their heads, each with all of its length.
    private static List<(int At, int Length, BlockKind Kind)> Blocks(byte[] archive)
    {
        var blocks = new List<(int, int, BlockKind)>();
        for (var at = 0; at < archive.Length - 40;)
        {
            var head = archive.AsSpan(at);
            var length = 40 + 4 * BinaryPrimitives.ReadInt32LittleEndian(head[8..]) + BinaryPrimitives.ReadInt32LittleEndian(head[16..]);
            if (head.StartsWith("VBLK"u8) && !head.StartsWith("VBLKSTAT"u8))
            {
                blocks.Add((at, length, (BlockKind)head[4]));
                at += length;
            }
            else
                at++;
        }
        return blocks;
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void ContentCannotPassForAState(bool firstFormat)
    {
        using var folder = new TempFolder();
        folder.Write("one/text", "text");
        var archive = folder.At("a.vmb");
        if (firstFormat)
            File.Copy(FormatOne("format-1.vmb"), archive);
        else
            Do.Capture(folder.At("one"), archive);
        var before = File.ReadAllBytes(archive);
        long sequence;
        using (var reader = ArchiveReader.Open(archive))
            sequence = reader.Sequence;
        // A record for a place at which one may be, of a state that never was: the present one with another number.
        var content = new byte[30_000];
        new Random(1).NextBytes(content);
        var begin = before.Length + 44;
        var step = firstFormat ? 64 : 256;
        for (var at = (begin + content.Length - 1000) / step * step; at + RecordLength + 100 <= begin + content.Length; at += 1024)
        {
            var record = before[^RecordLength..];
            BinaryPrimitives.WriteInt64LittleEndian(record.AsSpan(24), sequence + 700);
            BinaryPrimitives.WriteInt64LittleEndian(record.AsSpan(32), at);
            if (!firstFormat)
                BinaryPrimitives.WriteInt64LittleEndian(record.AsSpan(120), at);
            BinaryPrimitives.WriteUInt64LittleEndian(record.AsSpan(RecordLength - 8),
                XxHash3.HashToUInt64(record.AsSpan(0, RecordLength - 8)));
            record.CopyTo(content, at - begin);
        }
        folder.Write("two/content", content);
        Do.Capture(folder.At("two"), archive, "forged");
        // The run that captured it is interrupted, so that the content is the last thing in the file.
        var bytes = File.ReadAllBytes(archive);
        using (var file = File.OpenWrite(archive))
            file.SetLength(begin + content.Length - 100);
        using var after = ArchiveReader.Open(archive);
        // In the first format it does; that shows that the trial is one.
        Assert.Equal(firstFormat ? sequence + 700 : sequence, after.Sequence);
        if (firstFormat)
            return;
        // What is hidden so reads as it was, also in other archives.
        File.WriteAllBytes(archive, bytes);
        Do.Copy(new ImageReference(archive, "forged"), folder.At("copy.vmb"), null, default, NoProgress.Instance,
            CancellationToken.None);
        foreach (var (image, at) in new[] { (archive + "#forged", "x"), (folder.At("copy.vmb"), "y") })
        {
            Do.Deploy(image, folder.At(at));
            Assert.Equal(content, File.ReadAllBytes(folder.At($"{at}/content")));
        }
        Assert.Equal(-1, File.ReadAllBytes(folder.At("copy.vmb")).AsSpan().IndexOf(content.AsSpan(2000, 512)));
        Assert.Equal("1 30000 content\n",
            Tools.Run("python3", [Path.Combine(Repository.Root, "tests/reader/read_archive.py"), archive, "list", "2"]));
    }

    private static string FormatOne(string name) => Path.Combine(Repository.Root, "tests/archives", name);

    [Fact]
    public void AnArchiveInsideOfContentIsNotTakenForTheArchiveItself()
    {
        using var folder = new TempFolder();
        var inner = Prepared(folder, "inner.vmb");
        folder.Write("outer/inner.vmb", File.ReadAllBytes(inner));
        Noise(folder, "outer/noise", 100_000, 7);
        var outer = folder.At("outer.vmb");
        Do.Capture(folder.At("outer"), outer, "outer");
        var good = File.ReadAllBytes(outer);
        var content = Blocks(good).First(b => b.Kind == BlockKind.Content);
        // Without the head of the block that it is in, its own blocks are all that could be found there; without header, nothing is known.
        foreach (var headerToo in (bool[])[false, true])
        {
            var bytes = good.ToArray();
            bytes[content.At] ^= 0xFF;
            if (headerToo)
                bytes.AsSpan(0, 64).Clear();
            File.Delete(folder.At("saved.vmb"));
            var saved = Do.Recover(folder.Write("damaged.vmb", bytes), folder.At("saved.vmb"), NoProgress.Instance,
                CancellationToken.None);
            Assert.Equal(["outer"], saved.Images.Select(i => i.Name));
        }
        // Every image that cannot be saved is told.
        foreach (var block in Blocks(good).Where(b => b.Kind == BlockKind.Tree))
            good[block.At + block.Length - 3] ^= 1;
        File.Delete(folder.At("saved.vmb"));
        Assert.Equal(ErrorKind.Damaged,
            Assert.Throws<VembarException>(() => Do.Recover(folder.Write("damaged.vmb", good), folder.At("saved.vmb"),
            NoProgress.Instance, CancellationToken.None)).Kind);
        Assert.False(File.Exists(folder.At("saved.vmb")));
    }

    [Fact]
    public void ContentThatABaseHasLostIsHealed()
    {
        using var folder = new TempFolder();
        Noise(folder, "src/noise", 50_000, 1);
        folder.Write("src/in/side", "x");
        var based = folder.At("base.vmb");
        Do.Capture(folder.At("src"), based);
        var copy = folder.Write("copy.vmb", File.ReadAllBytes(based));
        Do.Capture(folder.At("src"), folder.At("a.vmb"), "one", r => r with { BasedOn = based });
        // The base is rewritten without what the other archive needs of it.
        Do.Drop(new ImageReference(based, "1"), default);
        folder.Write("other/x", "y");
        Do.Capture(folder.At("other"), based, "other");
        Do.Compact(based, null, default, NoProgress.Instance, CancellationToken.None);
        Assert.NotEmpty(Do.Verify(folder.At("a.vmb")).Damage);
        var healed = Repair(folder.At("a.vmb"), copy);
        Assert.True(healed.Ok, string.Join("; ", healed.Damage.Select(d => d.Problem)));
        Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        Assert.Equal(Do.Listing(folder.At("src")), Do.Listing(folder.At("out")));
    }

    [Fact]
    public void ArchivesOfTheFirstFormatAreReadChangedAndRewritten()
    {
        using var folder = new TempFolder();
        var archive = folder.At("format-1.vmb");
        File.Copy(FormatOne("format-1.vmb"), archive);
        File.Copy(FormatOne("format-1-based.vmb"), folder.At("format-1-based.vmb"));
        Assert.Equal("1 one;2 two;3 serviced", State(archive));
        Assert.True(Do.Verify(archive).Ok);
        Do.Deploy(archive + "#1", folder.At("out"));
        Assert.Contains("a224a047e0cf0b310098188e65eba84286265b540651b01ee3797c529735949e  ./a/second", Do.Listing(folder.At("out")),
            StringComparison.Ordinal);
        Do.Deploy(folder.At("format-1-based.vmb"), folder.At("based"));
        Assert.Equal(Do.Listing(folder.At("out")), Do.Listing(folder.At("based")));
        Assert.Equal(5, Do.History(archive).Count);
        Do.Capture(folder.At("out"), archive, "again");
        Do.Service(archive + "#2", "more", new RemoveChange("more.bin"));
        Assert.True(Do.Verify(archive).Ok);
        using (var reader = ArchiveReader.Open(archive))
            Assert.Equal(1, reader.Header.Major);
        // One flipped byte in its only record is no reason to lose what it names.
        var good = File.ReadAllBytes(archive);
        for (var at = good.Length - RecordLength; at < good.Length; at += 5)
        {
            var bytes = good.ToArray();
            bytes[at] ^= 4;
            var damaged = folder.Write("damaged.vmb", bytes);
            Assert.Equal(ErrorKind.Damaged, Assert.Throws<VembarException>(() => Do.Capture(folder.At("out"), damaged, "lost")).Kind);
            Assert.Equal(bytes, File.ReadAllBytes(damaged));
        }
        Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None);
        Assert.True(Do.Verify(archive).Ok);
        Assert.Equal("1 one;2 two;3 serviced;4 again;5 more", State(archive));
        using var rewritten = ArchiveReader.Open(archive);
        Assert.Equal(2, rewritten.Header.Major);
        Do.Deploy(folder.At("format-1-based.vmb"), folder.At("based again"));
    }

    // Another file takes the archive's name when the writer has made its blocks durable.
    private sealed class ReplacingLayer(string path, string with) : IFileSystem
    {
        private bool _done;

        public IByteSource OpenRead(string at) => LocalFileSystem.Instance.OpenRead(at);

        public IArchiveFile OpenWrite(string at) => new File(this, LocalFileSystem.Instance.OpenWrite(at));

        public IArchiveFile CreateNew(string at) => new File(this, LocalFileSystem.Instance.CreateNew(at));

        public void Rename(string from, string to, bool replace) => LocalFileSystem.Instance.Rename(from, to, replace);

        public void Delete(string at) => LocalFileSystem.Instance.Delete(at);

        private sealed class File(ReplacingLayer layer, IArchiveFile file) : IArchiveFile
        {
            private bool _isLocked;

            public long Length => file.Length;

            public int Read(Span<byte> to, long offset) => file.Read(to, offset);

            public void Write(ReadOnlySpan<byte> bytes, long offset) => file.Write(bytes, offset);

            public void Sync()
            {
                file.Sync();
                if (layer._done || !_isLocked)
                    return;
                layer._done = true;
                System.IO.File.Move(with(layer), path(layer), overwrite: true);
            }

            private static string with(ReplacingLayer layer) => layer.With;

            private static string path(ReplacingLayer layer) => layer.Path;

            public void Truncate(long length) => file.Truncate(length);

            public bool TryLock() => _isLocked = file.TryLock();

            public bool IsStillAt(string at) => file.IsStillAt(at);

            public void Dispose() => file.Dispose();
        }

        private string Path => path;

        private string With => with;
    }

    [Fact]
    public void WhatTookTheArchivesNameMeanwhileIsNotTouched()
    {
        using var folder = new TempFolder();
        Prepared(folder);
        var other = Noise(folder, "other", 5_000, 2);
        var bytes = File.ReadAllBytes(other);
        foreach (var (name, work) in new (string, Action<string, IFileSystem>)[]
        {
            ("capture", (archive, layer) => Do.Capture(folder.At("two"), archive, "new", layer: layer)),
            ("make", (archive, layer) => Do.Capture(folder.At("two"), archive, "new", layer: layer)),
            ("service", (archive, layer) => Do.Service(new ServiceRequest
            {
                Image = new ImageReference(archive, "1"),
                Changes = [new RemoveChange("noise")],
                InPlace = true,
            }, NoProgress.Instance, CancellationToken.None, layer)),
            ("compact", (archive, layer) => Do.Compact(archive, null, default, NoProgress.Instance, CancellationToken.None,
            layer)),
        })
        {
            var archive = folder.At($"{name}.vmb");
            if (name != "make")
                File.Copy(folder.At("a.vmb"), archive);
            File.WriteAllBytes(folder.At("taker"), bytes);
            Assert.Equal("archive-replaced",
                Assert.Throws<VembarException>(() => work(archive, new ReplacingLayer(archive, folder.At("taker")))).Code);
            Assert.Equal(bytes, File.ReadAllBytes(archive));
        }
        Assert.DoesNotContain(Directory.EnumerateFiles(folder.Path), f => Path.GetFileName(f).StartsWith('.'));
    }

    [Fact]
    public void ManySmallChangesCostWhatIsNewInThem()
    {
        using var folder = new TempFolder();
        folder.Write("src/text", "text");
        var archive = folder.At("a.vmb");
        for (var i = 0; i < 120; i++)
        {
            folder.Write("src/text", $"text {i}");
            Do.Capture(folder.At("src"), archive, $"image {i}");
        }
        var half = new FileInfo(archive).Length;
        for (var i = 120; i < 240; i++)
        {
            if (i % 3 == 0)
                Do.Drop(new ImageReference(archive, $"image {i - 100}"), default);
            folder.Write("src/text", $"text {i}");
            Do.Capture(folder.At("src"), archive, $"image {i}");
        }
        var whole = new FileInfo(archive).Length;
        // Twice the changes, and some more of the logarithm; with a list and an index written whole each time it would be four times.
        Assert.InRange(whole, half, half * 3);
        Assert.True(Do.Verify(archive).Ok);
        Assert.Equal(200, ArchiveImages(archive));
        var states = Do.History(archive);
        Assert.Equal(281, states.Count);
        Assert.Equal(100, states[100].Images.Count);
        Assert.Equal("image 239", states[^1].Images[^1].Name);
        Do.Rewind(archive, 50, default);
        Assert.Equal(50, ArchiveImages(archive));
        Assert.Equal(241, Do.Capture(folder.At("src"), archive, "after").Image.Number);
    }

    private static int ArchiveImages(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return reader.Images.Count;
    }

    // Counts the bytes that are read.
    private sealed class CountingLayer : IFileSystem
    {
        public long Read { get; private set; }

        public IByteSource OpenRead(string path) => new Source(this, LocalFileSystem.Instance.OpenRead(path));

        public IArchiveFile OpenWrite(string path) => LocalFileSystem.Instance.OpenWrite(path);

        public IArchiveFile CreateNew(string path) => LocalFileSystem.Instance.CreateNew(path);

        public void Rename(string from, string to, bool replace) => LocalFileSystem.Instance.Rename(from, to, replace);

        public void Delete(string path) => LocalFileSystem.Instance.Delete(path);

        private sealed class Source(CountingLayer layer, IByteSource source) : IByteSource
        {
            public long Length => source.Length;

            public int Read(Span<byte> to, long offset)
            {
                layer.Read += to.Length;
                return source.Read(to, offset);
            }

            public IReadOnlyList<(long Start, long End)> DataRanges(long from, long to) => source.DataRanges(from, to);

            public void Dispose() => source.Dispose();
        }
    }

    [Fact]
    public void ALongTailIsNotReadToBePassedOver()
    {
        using var folder = new TempFolder();
        var archive = Prepared(folder);
        using (var file = File.OpenWrite(archive))
            file.SetLength(20L << 30);
        var layer = new CountingLayer();
        using (var reader = ArchiveReader.Open(archive, layer))
            Assert.Equal((3, false), (reader.Images.Count, reader.IsNewerStateDamaged));
        Assert.InRange(layer.Read, 1, 1 << 20);
        // Neither is one of data, as a large capture leaves it: blocks follow one another.
        Noise(folder, "large/noise", 40_000_000, 5);
        var whole = folder.At("whole.vmb");
        Do.Capture(folder.At("one"), whole);
        Do.Capture(folder.At("large"), whole, "large");
        using (var file = File.OpenWrite(whole))
            file.SetLength(file.Length - 20_000);
        layer = new CountingLayer();
        using (var reader = ArchiveReader.Open(whole, layer))
            Assert.Single(reader.Images);
        Assert.InRange(layer.Read, 1, 5_000_000);
        Assert.Equal(2, Do.Capture(folder.At("two"), whole, "new").Image.Number);
        Assert.True(Do.Verify(whole).Ok);
    }
}

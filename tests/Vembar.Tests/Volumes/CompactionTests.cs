using System.Buffers.Binary;
using System.Globalization;
using System.Security.Cryptography;
using CsCheck;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Disks;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Compacted files: their contents as bytes, and on real volumes that an independent reader reads too.</summary>
public class CompactionTests(DemoFixture demo)
{
    private static readonly CompactedForm[] s_written = [CompactedForm.Xpress4K, CompactedForm.Xpress8K, CompactedForm.Xpress16K];

    private const int LzxUnit = 32 << 10;

    private static byte[] Compact(CompactedForm form, byte[] plain, bool plainChoices = false)
    {
        var stream = new MemoryStream();
        void Write(ReadOnlySpan<byte> bytes, long at)
        {
            stream.Position = at;
            stream.Write(bytes);
        }
        if (form == CompactedForm.Lzx)
            CompactLzx(plain, Write, plainChoices);
        else
        {
            var compactor = new Compactor(form, plain.Length, Write);
            compactor.Add(plain);
            compactor.Finish();
            Assert.Equal(stream.Length, compactor.Stored);
        }
        return stream.ToArray();
    }

    // With plain choices only blocks that the other reader takes too: it fails on some single verbatim blocks.
    private static void CompactLzx(byte[] plain, Action<ReadOnlySpan<byte>, long> write, bool plainChoices = false)
    {
        var units = plain.Chunk(LzxUnit)
            .Select((unit, i) => LzxTestEncoder.Compress(unit, plainChoices ? 2 : 1 + i % 4,
                plainChoices ? 1 + i % 2 : i % 3) is var compressed && compressed.Length < unit.Length ? compressed : unit).ToList();
        var table = new byte[Math.Max(0, units.Count - 1) * 4];
        var at = 0;
        for (var i = 0; i < units.Count; i++)
        {
            if (i > 0)
                BinaryPrimitives.WriteInt32LittleEndian(table.AsSpan(4 * (i - 1)), at);
            write(units[i], table.Length + at);
            at += units[i].Length;
        }
        if (table.Length > 0)
            write(table, 0);
    }

    private static byte[] Expand(CompactedForm form, byte[] stream, int length, int step = 1 << 20)
    {
        var content = new CompactedContent(form, length, stream.Length, (to, offset) =>
        {
            var count = (int)Math.Clamp(stream.Length - offset, 0, to.Length);
            stream.AsSpan((int)Math.Min(offset, stream.Length), count).CopyTo(to);
            return count;
        });
        var plain = new byte[length];
        for (var at = 0; at < length;)
            at += content.Read(plain.AsSpan(at, Math.Min(step, length - at)), at) is > 0 and var got ? got
                : throw new InvalidOperationException("nothing was read");
        return plain;
    }

    // As files are: text, programs with jumps, runs, noise.
    private static byte[] Sample(int seed, int length)
    {
        var random = new Random(seed);
        var bytes = new byte[length];
        for (var at = 0; at < length;)
        {
            var count = Math.Min(random.Next(1, 3000), length - at);
            var part = bytes.AsSpan(at, count);
            switch (random.Next(5))
            {
                case 0:
                    random.NextBytes(part);
                    break;
                case 1:
                    part.Fill((byte)random.Next(256));
                    break;
                case 2 when at > 0:
                    for (int i = 0, offset = random.Next(1, at + 1); i < count; i++)
                        part[i] = bytes[at + i - offset];
                    break;
                case 3:
                    for (var i = 0; i < count; i++)
                        part[i] = i % 9 == 0 ? (byte)0xE8 : i % 9 < 4 ? (byte)random.Next(256) : (byte)0;
                    break;
                default:
                    for (var i = 0; i < count; i++)
                        part[i] = (byte)"the lending desk opens at nine "[random.Next(31)];
                    break;
            }
            at += count;
        }
        return bytes;
    }

    public static TheoryData<CompactedForm> Forms() => [.. s_written, CompactedForm.Lzx];

    [Theory]
    [MemberData(nameof(Forms))]
    public void WhatIsCompactedExpandsToTheSame(CompactedForm form) =>
        Gen.Select(Gen.Int[0, 1 << 30], Gen.Int[1, 300_000], Gen.Int[1, 100_000]).Sample((seed, length, step) =>
        {
            var plain = Sample(seed, length);
            var stream = Compact(form, plain);
            Assert.True(stream.AsSpan().Length <= plain.Length + 4 * (plain.Length / 4096 + 1));
            Assert.True(plain.AsSpan().SequenceEqual(Expand(form, stream, length, step)), $"seed {seed}, length {length}");
        }, iter: 60);

    [Fact]
    public void ContentsThatCompressWellAndNotAtAll()
    {
        foreach (var form in Forms().Select(f => (CompactedForm)f.Data))
        {
            foreach (var plain in (byte[][])[new byte[1], new byte[4096], new byte[500_000],
                [.. Enumerable.Range(0, 70_000).Select(i => (byte)(i * i >> 5))], RandomNumberGenerator.GetBytes(100_000)])
                Assert.Equal(plain, Expand(form, Compact(form, plain), plain.Length));
        }
        Assert.True(Compact(CompactedForm.Xpress16K, new byte[1 << 20]).Length < 1 << 15);
    }

    // The example of MS-XCA 3.2: the alphabet.
    [Fact]
    public void ThePublishedExampleIsExpanded()
    {
        var table = new byte[256];
        table[0x30] = 0x50;
        table.AsSpan(0x31, 10).Fill(0x55);
        (table[0x3B], table[0x3C], table[0x3D], table[0x80]) = (0x45, 0x44, 0x04, 0x04);
        byte[] stream = [.. table, .. Convert.FromHexString("D8523ED794115BE9195FF9D67CDF8D0400000000")];
        // A unit that is not shorter than its content stands as it is; here the content is made longer by what no code says.
        var content = new CompactedContent(CompactedForm.Xpress4K, 4096, stream.Length, (to, offset) =>
        {
            stream.AsSpan((int)offset, to.Length).CopyTo(to);
            return to.Length;
        });
        var plain = new byte[4096];
        Assert.Throws<InvalidDataException>(() => content.Read(plain, 0));
        Assert.Equal("abcdefghijklmnopqrstuvwxyz", System.Text.Encoding.ASCII.GetString(plain, 0, 26));
    }

    [Theory]
    [MemberData(nameof(Forms))]
    public void DamageIsAnErrorAtWorst(CompactedForm form)
    {
        var plain = Sample(5, 150_000);
        var sound = Compact(form, plain);
        var random = new Random(17);
        for (var round = 0; round < 2_000; round++)
        {
            var stream = random.Next(8) == 0 ? sound[..random.Next(sound.Length)] : (byte[])sound.Clone();
            for (var flips = random.Next(1, 5); flips > 0 && stream.Length > 0; flips--)
                stream[random.Next(random.Next(2) == 0 ? stream.Length : Math.Min(stream.Length, 700))] ^= (byte)(1 << random.Next(8));
            try
            {
                Expand(form, stream, plain.Length);
            }
            catch (InvalidDataException problem)
            {
                Assert.Contains("compacted content", problem.Message, StringComparison.Ordinal);
            }
        }
    }

    [Fact]
    public void ReparsePointsSayTheirForm()
    {
        foreach (var form in Forms().Select(f => (CompactedForm)f.Data))
            Assert.Equal(form, CompactedForms.Of(CompactedForms.Reparse(form)));
        Assert.Equal("170000801400000001000000020000000100000001000000" + "00000000",
            Convert.ToHexString(CompactedForms.Reparse(CompactedForm.Lzx)));
        Assert.Equal(CompactedForm.None, CompactedForms.Of(null));
        Assert.Equal(CompactedForm.None, CompactedForms.Of(InAnotherFile));
    }

    // Provider 1: the content is in an image file.
    private static byte[] InAnotherFile => Convert.FromHexString("1700008010000000" + "0100000001000000" + "0000000000000000");

    private static readonly Dictionary<string, (CompactedForm Form, byte[] Plain)> s_files = new()
    {
        ["x4.dll"] = (CompactedForm.Xpress4K, Sample(1, 200_001)),
        ["x8.dll"] = (CompactedForm.Xpress8K, Sample(2, 8192)),
        ["x16.dll"] = (CompactedForm.Xpress16K, Sample(3, 500_000)),
        ["lzx.dll"] = (CompactedForm.Lzx, WithoutJumpsAtTheEnds(Sample(4, 300_000))),
        ["plain.dll"] = (CompactedForm.None, Sample(1, 200_001)),
    };

    // The published description leaves the last ten bytes of a unit as they are; the other reader translates jumps there too.
    private static byte[] WithoutJumpsAtTheEnds(byte[] bytes)
    {
        for (var end = LzxUnit; end - LzxUnit < bytes.Length; end += LzxUnit)
            bytes.AsSpan(Math.Min(end, bytes.Length) - 16, 16).Replace((byte)0xE8, (byte)'x');
        return bytes;
    }

    private static string Volume(TempFolder folder, Action<NtfsVolume, NtfsFile>? more = null)
    {
        var path = folder.At("volume.img");
        using (var file = File.Create(path))
            file.SetLength(64 << 20);
        Tools.Run("mkntfs", ["-F", "-Q", "-q", "-s", "512", "-c", "4096", "-p", "0", "-H", "255", "-S", "63", path]);
        using var device = FileDevice.Open(path, write: true);
        using var volume = NtfsVolume.Open(device, write: true);
        using var root = volume.Open(NtfsVolume.Root, "/");
        foreach (var (name, (form, plain)) in s_files)
            Add(volume, root, name, form, plain);
        more?.Invoke(volume, root);
        return path;
    }

    private static void Add(NtfsVolume volume, NtfsFile folder, string name, CompactedForm form, byte[] plain, byte[]? reparse = null,
        byte[]? stream = null)
    {
        using var file = volume.Create(folder, name, isFolder: false, 0, name);
        if (form == CompactedForm.None && reparse is null)
        {
            using var data = file.OpenData();
            data.Write(plain, 0);
        }
        else
        {
            if (form != CompactedForm.None)
            {
                using var own = file.AddStream(CompactedForms.Stream);
                own.Write(stream ?? Compact(form, plain, plainChoices: true), 0);
            }
            using (var data = file.OpenData())
                data.SetLength(plain.Length);
            file.SetReparse(reparse ?? CompactedForms.Reparse(form));
        }
        file.Close(folder);
    }

    // Name, bytes and SHA-256 of every file, as pyfsntfs reads them.
    private static string ByOtherReader(string volume) => Tools.Run("/usr/bin/python3", ["-c", """
        import sys, hashlib, pyfsntfs
        volume = pyfsntfs.volume()
        volume.open(sys.argv[1])
        def walk(entry, path):
            for i in range(entry.number_of_sub_file_entries):
                child = entry.get_sub_file_entry(i)
                name = path + child.name
                if name.startswith('$'):
                    continue
                if child.file_attribute_flags & 0x10000000:
                    walk(child, name + '/')
                else:
                    print(name, child.size, hashlib.sha256(child.read(child.size) if child.size else b'').hexdigest())
        walk(volume.get_root_directory(), '')
        """, volume]);

    [Fact]
    public void CompactedFilesAreCapturedAsTheirPlainContent()
    {
        using var folder = new TempFolder();
        var volume = Volume(folder);
        var other = ByOtherReader(volume).Split('\n', StringSplitOptions.RemoveEmptyEntries).Order(StringComparer.Ordinal);
        var expected = s_files.Select(f => string.Create(CultureInfo.InvariantCulture, $"{f.Key} {f.Value.Plain.Length} "
            + $"{Convert.ToHexStringLower(SHA256.HashData(f.Value.Plain))}")).Order(StringComparer.Ordinal).ToList();
        Assert.Equal(expected, other);
        var archive = folder.At("a.vmb");
        var captured = Do.Capture(volume, archive);
        Assert.Equal((4, s_files.Where(f => f.Value.Form != CompactedForm.None).Sum(f => (long)f.Value.Plain.Length)),
            (captured.Image.Compacted!.Files, captured.Image.Compacted.Bytes));
        Assert.InRange(captured.Image.Compacted.Stored, 1, captured.Image.Compacted.Bytes - 1);
        Do.WithTree(archive, 1, tree =>
        {
            foreach (var (name, (form, plain)) in s_files)
            {
                var entry = tree.Find(WindowsPath.Parse(name))!;
                Assert.Equal((form, (byte[]?)null, 0), (entry.Compaction, entry.Reparse, entry.Streams.Count));
                Assert.Equal((WindowsAttributes)0, entry.Attributes & (WindowsAttributes.Reparse | WindowsAttributes.Sparse));
                Assert.Equal(plain, tree.ReadFile(WindowsPath.Parse(name), 1 << 20));
            }
            // Shares its content with the plain copy.
            Assert.Equal(tree.Find(WindowsPath.Parse("plain.dll"))!.Content!.Hash, tree.Find(WindowsPath.Parse("x4.dll"))!.Content!.Hash);
            return 0;
        });
        Assert.Empty(Do.Verify(archive).Damage);
        // Taken again, all is known.
        Assert.Equal(0, Do.Capture(volume, archive, "again").Stats.BytesNew);

        var survey = Do.Survey(volume, NoProgress.Instance, default).Volumes.Single();
        Assert.Equal(4, survey.Take!.Compacted.Files);

        // Written plain, and compacted again where that is asked for; both read back the same by the other reader.
        foreach (var (choice, compacted) in ((CompactionChoice, int)[])[(CompactionChoice.None, 0), (CompactionChoice.Kept, 4)])
        {
            var target = folder.At($"{choice}.img");
            File.WriteAllBytes(target, new byte[64 << 20]);
            Tools.Run("mkntfs", ["-F", "-Q", "-q", "-s", "512", "-c", "4096", "-p", "0", "-H", "255", "-S", "63", target]);
            var deployed = Do.Deploy(archive + "#1", target, r => r with { Volume = 1, Compact = choice });
            Assert.Empty(deployed.Differences);
            Assert.Equal(compacted, deployed.Compacted.Files);
            Assert.Equal(expected, ByOtherReader(target).Split('\n', StringSplitOptions.RemoveEmptyEntries).Order(StringComparer.Ordinal));
            Assert.Equal(compacted, Do.Survey(target, NoProgress.Instance, default).Volumes.Single().Take!.Compacted.Files);
            Tools.Run("ntfsresize", ["-i", "-f", target]);
        }
    }

    [Fact]
    public void OnlyFilesWhoseContentIsElsewhereAreRefusedInOneLine()
    {
        using var folder = new TempFolder();
        var dedup = Convert.FromHexString("130000800400000000000000");
        var volume = Volume(folder, (ntfs, root) =>
        {
            for (var i = 0; i < 3; i++)
                Add(ntfs, root, $"elsewhere{i}.dll", CompactedForm.None, new byte[5000], InAnotherFile);
            Add(ntfs, root, "twin.bin", CompactedForm.None, new byte[5000], dedup);
        });
        var told = Assert.Throws<VembarException>(() => Do.Capture(volume, folder.At("a.vmb")));
        Assert.Equal(("overlaid-file", "4 files keep their content in another file (an image file, or a store of deduplicated data), "
            + "such as 'elsewhere0.dll'", 0), (told.Code, told.Message, told.Details.Count));
        Assert.Equal(4,
            Do.Survey(volume, NoProgress.Instance,
            default).Volumes.Single().Take!.Excluded.Count(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal)));
        var captured = Do.Capture(volume, folder.At("a.vmb"), with: r => r with { SkipUnreadable = true });
        Assert.Equal(s_files.Count, captured.Image.Files);
        Assert.Equal(["elsewhere0.dll", "elsewhere1.dll", "elsewhere2.dll", "twin.bin"], captured.Excluded.Select(l => l.Path));
    }

    [Fact]
    public void ADamagedCompactedFileIsToldWithItsName()
    {
        using var folder = new TempFolder();
        var stream = Compact(CompactedForm.Xpress4K, Sample(9, 100_000));
        stream.AsSpan(stream.Length / 2).Fill(0xFF);
        var volume = Volume(folder,
            (ntfs, root) => Add(ntfs, root, "damaged.dll", CompactedForm.Xpress4K, new byte[100_000], null, stream));
        var told = Assert.Throws<VembarException>(() => Do.Capture(volume, folder.At("a.vmb")));
        Assert.Contains("damaged.dll", told.Message + string.Concat(told.Details), StringComparison.Ordinal);
        Assert.Contains("compacted content (Xpress4K) is damaged", told.Message + string.Concat(told.Details), StringComparison.Ordinal);
    }

    [Fact]
    public void AnotherContentIsAPlainOne()
    {
        using var folder = new TempFolder();
        var archive = folder.At("a.vmb");
        Do.Capture(Volume(folder), archive);
        Do.Service(archive, null, new PutChange(folder.Write("x", "new"), "x4.dll"));
        Assert.Equal((CompactedForm.None, CompactedForm.Xpress8K),
            Do.WithTree(archive, 1,
            t => (t.Find(WindowsPath.Parse("x4.dll"))!.Compaction, t.Find(WindowsPath.Parse("x8.dll"))!.Compaction)));
    }

    [Fact]
    public void ProgramFilesOfAnInstallAreWrittenCompactedButThoseThatStartIt()
    {
        using var folder = new TempFolder();
        var disk = folder.At("disk.img");
        var deployed = Do.Deploy(demo.CopyArchive(folder), disk, r => r with { Size = 2L << 30, Compact = CompactionChoice.Programs });
        Assert.Empty(deployed.Differences);
        Assert.InRange(deployed.Compacted.Files, 50, 1000);
        Assert.True(deployed.Compacted.Stored < deployed.Compacted.Bytes);
        var archive = folder.At("b.vmb");
        Do.Capture(disk, archive);
        Do.WithTree(archive, 1, tree =>
        {
            var compacted = tree.Walk(tree.Root, WindowsPath.Root).Where(e => e.Entry.Compaction != CompactedForm.None)
                .Select(e => e.Path.ToString()).ToList();
            Assert.Contains(compacted, p => p.StartsWith("Windows/System32/", StringComparison.Ordinal));
            Assert.Contains(compacted, p => p.StartsWith("Program Files/", StringComparison.Ordinal));
            Assert.DoesNotContain(compacted,
                p => p.StartsWith("Windows/System32/drivers/", StringComparison.OrdinalIgnoreCase)
                    || p.StartsWith("Windows/Boot/", StringComparison.OrdinalIgnoreCase)
                || p.EndsWith("/ntoskrnl.exe", StringComparison.OrdinalIgnoreCase)
                || p.Contains("/winload", StringComparison.OrdinalIgnoreCase)
                || p.Contains("/config/", StringComparison.OrdinalIgnoreCase));
            return 0;
        });
        Assert.Equal("compact-where", Assert.Throws<VembarException>(() => Do.Deploy(archive, folder.At("out"), r => r with
        {
            Compact = CompactionChoice.Kept,
        })).Code);
    }
}

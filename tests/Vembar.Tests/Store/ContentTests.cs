using CsCheck;
using Vembar.Images.Paths;
using Vembar.Store.Chunking;
using Vembar.Store.Compression;
using Vembar.Store.Hashing;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>How content is cut, wherever it comes from.</summary>
public sealed class ContentTests
{
    private static List<(ChunkId Id, long Length)> Cut(byte[] data)
    {
        var chunker = new Chunker(ChunkSizes.Standard);
        var chunks = new List<(ChunkId, long)>();
        for (var at = 0; at < data.Length;)
        {
            var length = chunker.Next(data.AsSpan(at, Math.Min(chunker.Largest, data.Length - at)));
            chunks.Add((Blake3.Hash(data.AsSpan(at, length)), length));
            at += length;
        }
        return chunks;
    }

    // What is in it: noise, text of few letters, one value, and copies of what came before.
    private static byte[] Mixed(int length, int seed)
    {
        var random = new Random(seed);
        var data = new byte[length];
        for (var at = 0; at < length;)
        {
            var piece = data.AsSpan(at, Math.Min(length - at, random.Next(1, 700_000)));
            switch (random.Next(4))
            {
                case 0:
                    random.NextBytes(piece);
                    break;
                case 1:
                    for (var i = 0; i < piece.Length; i++)
                        piece[i] = (byte)"acgt"[random.Next(4)];
                    break;
                case 2:
                    piece.Fill((byte)random.Next(256));
                    break;
                default:
                    data.AsSpan(random.Next(Math.Max(1, at - piece.Length)), Math.Min(piece.Length, at)).CopyTo(piece);
                    break;
            }
            at += piece.Length;
        }
        return data;
    }

    [Fact]
    public void AFileIsCutAsItsBytesAreHoweverItIsRead()
    {
        // Around the sizes in which files are read, and of chunks.
        int[] near = [32 << 10, 512 << 10, 1 << 20, 2 << 20, 4 << 20, 5 << 20];
        Gen.Select(Gen.Int[0, near.Length - 1].Select(i => near[i]), Gen.Int[-3, 3], Gen.Int).Array[1, 4].Sample(files =>
        {
            using var folder = new TempFolder();
            for (var i = 0; i < files.Length; i++)
                folder.Write($"src/{i}", Mixed(files[i].Item1 + files[i].Item2, files[i].Item3));
            Do.Capture(folder.At("src"), folder.At("a.vmb"), "folder", r => r with { Effort = Effort.Quick });
            // The same again as streams of the servicing.
            Do.Service(folder.At("a.vmb"), "put",
                [.. Enumerable.Range(0, files.Length).Select(i => new PutChange(folder.At($"src/{i}"), $"put/{i}"))]);
            Do.WithTree(folder.At("a.vmb"), 2, tree =>
            {
                for (var i = 0; i < files.Length; i++)
                {
                    var data = File.ReadAllBytes(folder.At($"src/{i}"));
                    foreach (var path in (string[])[$"{i}", $"put/{i}"])
                    {
                        var content = tree.Find(WindowsPath.Parse(path))!.Content!;
                        Assert.Equal(Blake3.Hash(data), content.Hash);
                        Assert.Equal(Cut(data), tree.Parts(content, WindowsPath.Parse(path)).Select(p => (p.Id, p.Length)));
                    }
                }
                return 0;
            });
        }, iter: 8);
    }

    [Fact]
    public void EditsTouchOnlyTheChunksNearThem() =>
        Gen.Select(Gen.Int, Gen.Select(Gen.Int[0, 7_999_999], Gen.Int[0, 40], Gen.Int[0, 40]).Array[1, 4]).Sample((seed, edits) =>
    {
        var data = new byte[8_000_000];
        new Random(seed).NextBytes(data);
        var before = Cut(data).Select(c => c.Id).ToHashSet();
        var changed = data.ToList();
        foreach (var (at, gone, come) in edits)
        {
            changed.RemoveRange(Math.Min(at, changed.Count - gone), gone);
            changed.InsertRange(Math.Min(at, changed.Count), Enumerable.Range(0, come).Select(i => (byte)i));
        }
        var after = Cut([.. changed]);
        // The chunk that an edit is in, and now and then those behind it until the boundaries meet again.
        return after.Count(c => !before.Contains(c.Id)) <= 6 * edits.Length;
    }, iter: 20);

    [Fact]
    public void ContentOfFewDifferentBytesIsCutByWhatItHoldsToo()
    {
        var random = new Random(4);
        var letters = new byte[8_000_000];
        for (var i = 0; i < letters.Length; i++)
            letters[i] = (byte)"acgt"[random.Next(4)];
        var table = new byte[8_000_000];
        for (var i = 0; i < table.Length; i += 8)
            BitConverter.TryWriteBytes(table.AsSpan(i), (long)random.Next(5000));
        foreach (var data in (byte[][])[letters, table])
        {
            var chunks = Cut(data);
            Assert.InRange(data.Length / chunks.Count, ChunkSizes.Standard.Average / 3, ChunkSizes.Standard.Average * 3);
            // Most ends are where the content says, not at the largest size.
            Assert.True(chunks.Count(c => c.Length == ChunkSizes.Standard.Largest) < chunks.Count / 4);
            var shifted = Cut([1, 2, 3, .. data]);
            Assert.True(shifted.Count(c => !chunks.Contains(c)) <= 4);
        }
    }

    [Fact]
    public void RunsOfOneValueAreCutAtTheLargestSize()
    {
        // Or else a large empty file would be thousands of small chunks.
        foreach (var value in (byte[])[0, 0x20, 0xFF])
        {
            var data = new byte[3_000_000];
            data.AsSpan().Fill(value);
            Assert.Equal(ChunkSizes.Standard.Largest, Cut(data)[0].Length);
        }
    }

    [Fact]
    public void ALargeFileThatChangesInTheMiddleStoresAChunkOrTwo()
    {
        using var folder = new TempFolder();
        var data = Mixed(20_000_000, 3);
        folder.Write("src/large", data);
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        data[10_000_000] ^= 1;
        folder.Write("src/large", data);
        var second = Do.Capture(folder.At("src"), folder.At("a.vmb"), "two");
        Assert.InRange(second.Stats.BytesNew, 1, 2 * ChunkSizes.Standard.Largest);
        Assert.True(Do.Verify(folder.At("a.vmb")).Ok);
    }

    [Fact]
    public void HolesAreKeptBetweenStretchesOfEveryLength() =>
        Gen.Select(Gen.Int[1, 1_500_000], Gen.Int[1, 900_000]).Array[1, 6].Sample(stretches =>
    {
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("src"));
        using (var file = File.Create(folder.At("src/sparse")))
        {
            var random = new Random(stretches.Length);
            foreach (var (hole, length) in stretches)
            {
                file.Seek(hole, SeekOrigin.Current);
                var bytes = new byte[length];
                random.NextBytes(bytes);
                file.Write(bytes);
            }
            file.SetLength(file.Length + stretches[0].Item1);
        }
        Do.Capture(folder.At("src"), folder.At("a.vmb"), "one", r => r with { Effort = Effort.Quick });
        Do.Deploy(folder.At("a.vmb"), folder.At("out"));
        var whole = File.ReadAllBytes(folder.At("src/sparse"));
        Assert.Equal(whole, File.ReadAllBytes(folder.At("out/sparse")));
        Assert.Equal(Blake3.Hash(whole), Do.WithTree(folder.At("a.vmb"), 1, t => t.Find(WindowsPath.Parse("sparse"))!.Content!.Hash));
    }, iter: 12);
}

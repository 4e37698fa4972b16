using CsCheck;
using Vembar.Store.Chunking;
using Vembar.Store.Hashing;
using Xunit;

namespace Vembar.Tests;

public class Blake3Tests
{
    [Fact]
    public void AgreesWithB3sumForEveryLengthUpTo2200AndLongerOnes()
    {
        using var folder = new TempFolder();
        var random = new Random(7);
        var lengths = Enumerable.Range(0, 2201)
            .Concat([3 * 1024, 16 * 1024, 16 * 1024 + 1, 17 * 1024, 31 * 1024 + 5, 64 * 1024, 64 * 1024 + 1, 65 * 1024, 128 * 1024])
            .Concat(Enumerable.Range(0, 40).Select(_ => random.Next(2201, 3_000_000))).Distinct().ToList();
        var all = new byte[3_000_000];
        random.NextBytes(all);
        foreach (var length in lengths)
            File.WriteAllBytes(folder.At($"{length}"), all.AsSpan(0, length));
        var expected = Tools.Run("b3sum", [.. lengths.Select(l => $"{l}")], folder.Path).Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .ToDictionary(line => int.Parse(line.Split("  ")[1]), line => line.Split("  ")[0]);
        var widths = new[] { 1, 4, 8, 16 }.Where(w => w <= Blake3.WidestLanes).ToArray();
        foreach (var length in lengths)
        {
            foreach (var width in widths)
            {
                Assert.Equal(expected[length], Blake3.Hash(all.AsSpan(0, length), width).ToString());
                var streamed = new Blake3(width);
                streamed.Append(all.AsSpan(0, length));
                Assert.Equal(expected[length], streamed.Finish().ToString());
            }
        }
    }

    [Fact]
    public void PiecesGiveTheSameAsTheWhole() =>
        Gen.Select(Gen.Byte.Array[0, 300_000], Gen.Int[1, 100_000]).Sample((data, step) =>
        {
            var hash = new Blake3();
            for (var at = 0; at < data.Length; at += step)
                hash.Append(data.AsSpan(at, Math.Min(step, data.Length - at)));
            return hash.Finish() == Blake3.Hash(data);
        }, iter: 60);
}

public class ChunkerTests
{
    [Fact]
    public void CutsWithinTheSizesAndGivesTheContentBack()
    {
        var chunker = new Chunker(ChunkSizes.Standard);
        var data = new byte[6_000_000];
        new Random(3).NextBytes(data);
        var lengths = Cut(chunker, data);
        Assert.Equal(data.Length, lengths.Sum());
        Assert.All(lengths.SkipLast(1), l => Assert.InRange(l, ChunkSizes.Standard.Smallest, ChunkSizes.Standard.Largest));
        Assert.InRange(data.Length / lengths.Count, ChunkSizes.Standard.Average / 2, ChunkSizes.Standard.Average * 2);
    }

    [Fact]
    public void AnInsertionMovesOnlyTheBoundariesNearIt()
    {
        var chunker = new Chunker(ChunkSizes.Standard);
        var data = new byte[8_000_000];
        new Random(5).NextBytes(data);
        var changed = data.Take(1_000_000).Concat("inserted"u8.ToArray()).Concat(data.Skip(1_000_000)).ToArray();
        var before = Ids(chunker, data);
        var after = Ids(chunker, changed);
        Assert.InRange(after.Except(before).Count(), 1, 4);
    }

    // docs/archive-format.md, "Where content is cut", word by word and byte by byte.
    [Fact]
    public void BoundariesAreWhereTheFormatPageSaysTheyAre()
    {
        var random = new Random(11);
        foreach (var sizes in new[] { new ChunkSizes(4096, 8192, 20000), new ChunkSizes(5001, 16384, 65537), ChunkSizes.Standard })
        {
            var chunker = new Chunker(sizes);
            foreach (var length in Enumerable.Range(0, 40).Select(_ => random.Next(1, 900_000))
                .Concat([1, 4095, 4096, 4097, 4103, 4104, 8191, 8192, 8193]))
            {
                var data = new byte[length];
                random.NextBytes(data);
                // Long runs of one value are cut nowhere, or everywhere.
                data.AsSpan(length / 3, length / 4).Fill((byte)random.Next(256));
                Assert.Equal(Plain(data, sizes), Cut(chunker, data));
            }
        }

        List<int> Plain(byte[] data, ChunkSizes sizes)
        {
            var lengths = new List<int>();
            var bits = int.Log2(sizes.Average);
            for (var start = 0; start < data.Length; start += lengths[^1])
            {
                var end = Math.Min(data.Length - start, sizes.Largest);
                var cut = end;
                for (var i = sizes.Smallest; i < end; i++)
                {
                    uint Word(int back) => BitConverter.ToUInt32(data, start + i - back);
                    var hash = (Word(3) + (Word(11) << 9)) * 0x9E3779B1 + (Word(7) + (Word(15) << 11)) * 0x85EBCA77;
                    var k = i < sizes.Average ? bits + 2 : bits - 2;
                    if (hash >> (32 - k) != (1u << k) - 1)
                        continue;
                    cut = i + 1;
                    break;
                }
                lengths.Add(cut);
            }
            return lengths;
        }
    }

    private static List<int> Cut(Chunker chunker, byte[] data)
    {
        var lengths = new List<int>();
        for (var at = 0; at < data.Length; at += lengths[^1])
            lengths.Add(chunker.Next(data.AsSpan(at, Math.Min(chunker.Largest, data.Length - at))));
        return lengths;
    }

    private static List<ChunkId> Ids(Chunker chunker, byte[] data)
    {
        var at = 0;
        return Cut(chunker, data).ConvertAll(l => Blake3.Hash(data.AsSpan((at += l) - l, l)));
    }
}

using System.Diagnostics;
using CsCheck;
using Vembar.Core.Content;
using Xunit;

namespace Vembar.Core.Tests;

public class Blake3Tests
{
    [Fact]
    public void AgreesWithB3sumForEveryLengthUpTo2200AndLongerOnes()
    {
        using var folder = new TempFolder();
        var random = new Random(7);
        var lengths = Enumerable.Range(0, 2201).Concat([3 * 1024, 16 * 1024, 16 * 1024 + 1, 17 * 1024, 31 * 1024 + 5, 64 * 1024, 64 * 1024 + 1, 65 * 1024, 128 * 1024])
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

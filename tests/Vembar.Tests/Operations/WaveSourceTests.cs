using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Operations.Show;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.Waves;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>What is read of an archive that comes with a wave is what stands in it, whatever came of the wave.</summary>
public sealed class WaveSourceTests(DemoFixture demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    // One that is far away, of which is counted what was asked for.
    private sealed class FarSource(IByteSource source) : IByteSource
    {
        public long Asked;

        public long Length => source.Length;

        public bool IsRemote => true;

        public int Read(Span<byte> to, long offset)
        {
            var count = source.Read(to, offset);
            Interlocked.Add(ref Asked, count);
            return count;
        }

        public void Dispose() => source.Dispose();
    }

    private sealed class FarFiles(FarSource far, string archive) : IFileSystem
    {
        public IByteSource OpenRead(string path) => path == archive ? far : LocalFileSystem.Instance.OpenRead(path);

        public IArchiveFile OpenWrite(string path) => LocalFileSystem.Instance.OpenWrite(path);

        public IArchiveFile CreateNew(string path) => LocalFileSystem.Instance.CreateNew(path);

        public void Rename(string from, string to, bool replace) => LocalFileSystem.Instance.Rename(from, to, replace);

        public void Delete(string path) => LocalFileSystem.Instance.Delete(path);
    }

    private WavePlan Plan()
    {
        using var source = LocalFileSystem.Instance.OpenRead(demo.Archive);
        return WavePlanner.Make(source, demo.Archive, 1, TimeProvider.System, CancellationToken.None);
    }

    private byte[] Bytes(WavePiece piece)
    {
        using var source = LocalFileSystem.Instance.OpenRead(demo.Archive);
        var bytes = new byte[piece.Length];
        Assert.Equal(bytes.Length, source.Read(bytes, piece.Offset));
        return bytes;
    }

    // With all of a wave, a deployment asks for next to nothing; what of the plan is not needed is little.
    [Fact]
    public async Task APlanHasWhatADeploymentReads()
    {
        var plan = Plan();
        var ordered = plan.Pieces.OrderBy(p => p.Offset).ToList();
        Assert.All(ordered.Zip(ordered.Skip(1)), p => Assert.True(p.First.Offset + p.First.Length <= p.Second.Offset));
        var inbox = new WaveInbox(plan, long.MaxValue, TimeProvider.System);
        for (var number = 0; number < plan.Pieces.Count; number++)
            inbox.Came(number, Bytes(plan.Pieces[number]));
        Assert.Equal((plan.Bytes, 0), (inbox.Heard, inbox.Forged));
        var far = new FarSource(LocalFileSystem.Instance.OpenRead(demo.Archive));
        var asked = 0L;
        var files = new OverlaidFileSystem(new FarFiles(far, demo.Archive), demo.Archive,
            () => new WaveByteSource(far, plan, inbox, bytes => Interlocked.Add(ref asked, bytes)));
        var done = await new DeployHandler(new OperationHost { Files = files }).HandleAsync(new DeployRequest
        {
            Image = ImageReference.Parse($"{demo.Archive}#1"),
            Target = _folder.At("target"),
            Verify = true,
        }, NoProgress.Instance, CancellationToken.None);
        Assert.Empty(done.Differences);
        // What is read twice is asked for.
        Assert.InRange(far.Asked, 0, plan.Bytes / 20);
        Assert.InRange(asked, 0, plan.Bytes / 20);
    }

    // What a machine looks at when it has its image needs no more than what came first.
    [Fact]
    public async Task WhatIsLookedAtComesFirst()
    {
        var plan = Plan();
        Assert.InRange(plan.Again, 1, plan.Pieces.Count - 1);
        var inbox = new WaveInbox(plan, long.MaxValue, TimeProvider.System);
        for (var number = 0; number < plan.Again; number++)
            inbox.Came(number, Bytes(plan.Pieces[number]));
        var far = new FarSource(LocalFileSystem.Instance.OpenRead(demo.Archive));
        var files = new OverlaidFileSystem(new FarFiles(far, demo.Archive), demo.Archive, () => new WaveByteSource(far, plan, inbox,
            _ => { }));
        var shown = await new ShowHandler(new OperationHost { Files = files }).HandleAsync(
            new ShowRequest(ImageReference.Parse($"{demo.Archive}#1"), false, false), NoProgress.Instance, CancellationToken.None);
        Assert.NotEmpty(shown.Programs!);
        // The header says where the index is, and is read before anything is known.
        Assert.InRange(far.Asked, 0, 4096);
    }

    // While a wave has not come that far: who needs a piece of content at once asks for it, and does not wait for all that comes before.
    [Fact]
    public async Task WhatIsNeededAtOnceIsNotWaitedFor()
    {
        var plan = Plan();
        var inbox = new WaveInbox(plan, long.MaxValue, TimeProvider.System);
        var far = new FarSource(LocalFileSystem.Instance.OpenRead(demo.Archive));
        using var source = new WaveByteSource(far, plan, inbox, _ => { });
        inbox.Came(WaveInbox.Hello, [1]);
        var last = plan.Pieces[^1];
        var found = new byte[last.Length];
        Assert.Equal(last.Length, source.Read(found, last.Offset));
        Assert.Equal(Bytes(last), found);
        Assert.Equal(last.Length, far.Asked);
        // What is fetched ahead waits for its turn; so do index and folders, which come first.
        var ahead = source.ReadAsync(new byte[plan.Pieces[^2].Length], plan.Pieces[^2].Offset).AsTask();
        var first = Task.Run(() => source.Read(new byte[plan.Pieces[0].Length], plan.Pieces[0].Offset));
        Assert.False(ahead.IsCompleted);
        for (var number = 0; number < plan.Pieces.Count; number++)
            inbox.Came(number, Bytes(plan.Pieces[number]));
        Assert.Equal((plan.Pieces[^2].Length, plan.Pieces[0].Length), (await ahead, await first));
        Assert.Equal(last.Length, far.Asked);
    }

    // Any part of a wave, in any order, with what is not the station's among it; the rest is asked for.
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public async Task WhateverComesTheBytesAreRight(int seed)
    {
        var random = new Random(seed);
        var plan = Plan();
        var clock = new FixedClock(DateTimeOffset.UnixEpoch);
        var inbox = new WaveInbox(plan, plan.Bytes / 3, clock);
        var numbers = Enumerable.Range(0, plan.Pieces.Count).ToArray();
        random.Shuffle(numbers);
        var forged = 0;
        foreach (var number in numbers.Where(_ => random.Next(4) > 0))
        {
            var bytes = Bytes(plan.Pieces[number]);
            if (random.Next(10) == 0)
            {
                bytes[random.Next(bytes.Length)] ^= 1;
                forged++;
            }
            inbox.Came(number, bytes);
        }
        Assert.Equal(forged, inbox.Forged);
        inbox.Came(-7, []);
        inbox.Came(plan.Pieces.Count, [1, 2, 3]);
        // Nothing more comes: whoever waits is not kept waiting.
        inbox.End();
        using var whole = LocalFileSystem.Instance.OpenRead(demo.Archive);
        using var source = new WaveByteSource(new FarSource(LocalFileSystem.Instance.OpenRead(demo.Archive)), plan, inbox, _ => { });
        for (var trial = 0; trial < 200; trial++)
        {
            var offset = random.NextInt64(source.Length + 100);
            var expected = new byte[random.Next(1, 1 << 20)];
            var count = whole.Read(expected, offset);
            var found = new byte[expected.Length];
            Assert.Equal(count, await source.ReadAsync(found, offset, CancellationToken.None));
            Assert.True(expected.AsSpan(0, count).SequenceEqual(found.AsSpan(0, count)), $"{expected.Length} bytes at {offset}");
        }
    }

    [Theory]
    [InlineData("300 Mbit/s", 300_000_000)]
    [InlineData("1.5 Gbit/s", 1_500_000_000)]
    [InlineData("2000kbit/s", 2_000_000)]
    [InlineData("300", -1)]
    [InlineData("-3 Mbit/s", -1)]
    [InlineData("1 kbit/s", -1)]
    [InlineData("1e9 Gbit/s", -1)]
    public void RatesAreReadAsPeopleWriteThem(string text, long rate)
    {
        Assert.Equal(rate > 0, BitRate.TryParse(text, out var read));
        if (rate > 0)
            Assert.Equal(rate, read);
    }
}

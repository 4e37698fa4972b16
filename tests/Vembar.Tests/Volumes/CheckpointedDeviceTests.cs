using Vembar.Volumes.Disks;
using Xunit;

namespace Vembar.Tests.Volumes;

public class CheckpointedDeviceTests
{
    private const int Unit = 4096, Units = 64, JournalAt = Units * Unit;

    private sealed record Kept(byte[] Content, HashSet<int> Used);

    // A volume with a journal behind it; every checkpoint is noted as it is begun and as it is ended.
    private static (List<Kept> Done, Kept? Begun, int Operations) Run(byte[] disk, int seed, int stopAt, int journalLength)
    {
        var random = new Random(seed);
        var used = new byte[Units / 8];
        random.NextBytes(used);
        var inUse = Enumerable.Range(0, Units).Where(u => (used[u >> 3] >> (u & 7) & 1) != 0).ToHashSet();
        inUse.Add(Units - 1);
        var model = disk[..JournalAt];
        var device = new FlakyDevice(disk, stopAt, random);
        var done = new List<Kept> { new([.. model], [.. inUse]) };
        Kept? begun = null;
        try
        {
            using var volume =
                new CheckpointedDevice(new SliceDevice(device, 0, JournalAt), new SliceDevice(device, JournalAt, journalLength),
                used, Unit);
            var written = new HashSet<int>();
            for (var round = 0; round < 6; round++)
            {
                for (var write = 0; write < 12; write++)
                {
                    var length = random.Next(1, 3 * Unit);
                    var at = random.Next(0, JournalAt - length);
                    var bytes = new byte[length];
                    random.NextBytes(bytes);
                    volume.Write(bytes, at);
                    bytes.CopyTo(model, at);
                    written.UnionWith(Enumerable.Range(at / Unit, (at + length - 1) / Unit - at / Unit + 1));
                    // What was written is what is read.
                    var from = random.Next(0, JournalAt - 1);
                    var seen = new byte[random.Next(1, JournalAt - from)];
                    Assert.Equal(seen.Length, volume.Read(seen, from));
                    Assert.True(seen.AsSpan().SequenceEqual(model.AsSpan(from, seen.Length)));
                }
                inUse.UnionWith(written);
                begun = new Kept([.. model], [.. inUse]);
                volume.Checkpoint();
                done.Add(begun);
                begun = null;
            }
        }
        catch (PowerCutException)
        {
            // That is what is looked at.
        }
        return (done, begun, device.Operations);
    }

    private static bool Is(byte[] disk, Kept kept) => kept.Used.All(u => disk.AsSpan(u * Unit, Unit).SequenceEqual(
        kept.Content.AsSpan(u * Unit, Unit)));

    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public void WhereverThePowerGoesTheVolumeIsAsAtACheckpoint(int seed)
    {
        const int JournalLength = (Units + 8) * (Unit + 8);
        var begin = new byte[JournalAt + JournalLength];
        new Random(seed).NextBytes(begin);
        var (_, _, operations) = Run([.. begin], seed, int.MaxValue, JournalLength);
        Assert.InRange(operations, 50, 1000);
        // The first operations make the journal; before that nothing is changed.
        for (var stop = 2; stop < operations; stop++)
        {
            var disk = (byte[])begin.Clone();
            var (done, begun, _) = Run(disk, seed, stop, JournalLength);
            var device = new FlakyDevice(disk, int.MaxValue, new Random(0));
            Assert.True(CheckpointedDevice.Recover(new SliceDevice(device, 0, JournalAt),
                new SliceDevice(device, JournalAt, JournalLength)),
                $"stopped at {stop}");
            device.Flush();
            Assert.True(Is(disk, done[^1]) || begun is not null && Is(disk, begun), $"stopped at {stop}");
        }
    }

    [Fact]
    public void WithMoreThanTheJournalHoldsItSaysWhenItCannotGoOn()
    {
        const int JournalLength = 4 * Unit;
        var begin = new byte[JournalAt + JournalLength];
        var (_, _, operations) = Run([.. begin], 4, int.MaxValue, JournalLength);
        var lost = 0;
        for (var stop = 2; stop < operations; stop++)
        {
            var disk = (byte[])begin.Clone();
            var (done, begun, _) = Run(disk, 4, stop, JournalLength);
            var device = new FlakyDevice(disk, int.MaxValue, new Random(0));
            if (!CheckpointedDevice.Recover(new SliceDevice(device, 0, JournalAt), new SliceDevice(device, JournalAt, JournalLength)))
            {
                lost++;
                continue;
            }
            device.Flush();
            Assert.True(Is(disk, done[^1]) || begun is not null && Is(disk, begun), $"stopped at {stop}");
        }
        Assert.InRange(lost, 1, operations - 20);
    }

    [Fact]
    public void AJournalOfAnybodyElseIsNone()
    {
        var random = new Random(5);
        for (var tries = 0; tries < 200; tries++)
        {
            var disk = new byte[32 * Unit];
            random.NextBytes(disk);
            var before = (byte[])disk.Clone();
            var device = new FlakyDevice(disk, int.MaxValue, random);
            Assert.False(CheckpointedDevice.Recover(new SliceDevice(device, 0, 16 * Unit), new SliceDevice(device, 16 * Unit, 16 * Unit)));
            Assert.Equal(before, disk);
        }
    }
}

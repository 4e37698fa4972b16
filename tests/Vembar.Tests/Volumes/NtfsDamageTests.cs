using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations;
using Xunit;

namespace Vembar.Tests.Volumes;

/// <summary>Volumes whose metadata is damaged: no file is lost without a word.</summary>
public sealed class NtfsDamageTests(DemoDisks demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private (string Disk, string Archive) Prepared()
    {
        var (disk, archive) = (_folder.At("disk.img"), _folder.At("a.vmb"));
        Tools.Run("qemu-img", ["convert", "-O", "raw", demo.LendingDesk, disk]);
        Do.Capture(disk, archive, "whole", r => r with { KeepAll = true });
        return (disk, archive);
    }

    // Where a mark stands at the beginning of a sector.
    private static List<long> Places(string disk, string mark)
    {
        var places = new List<long>();
        using var file = File.OpenRead(disk);
        var bytes = new byte[1 << 20];
        for (var at = 0L; file.Read(bytes) is > 0 and var count; at += count)
        {
            for (var i = 0; i + 512 <= count; i += 512)
            {
                if (bytes.AsSpan(i).StartsWith(System.Text.Encoding.ASCII.GetBytes(mark)))
                    places.Add(at + i);
            }
        }
        return places;
    }

    private static byte[] Read(string disk, long at, int count)
    {
        using var file = File.OpenRead(disk);
        file.Position = at;
        var bytes = new byte[count];
        file.ReadExactly(bytes);
        return bytes;
    }

    private static void Write(string disk, long at, byte[] bytes)
    {
        using var file = File.OpenWrite(disk);
        file.Position = at;
        file.Write(bytes);
    }

    private static List<string> Paths(string archive, string image) => Do.WithTree(archive, Do.Record(new ImageReference(archive,
        image)).Number,
        tree => tree.Walk(tree.Root, WindowsPath.Root).Select(e => e.Path.ToString()).Order(StringComparer.Ordinal).ToList());

    // The first entry of a block says that it is the last one: what follows is not listed any more.
    [Fact]
    public void AShortenedIndexLosesNothing()
    {
        const int EntriesAt = 0x18, FlagsAt = 12;
        var (disk, archive) = Prepared();
        var whole = Paths(archive, "whole");
        var lost = 0;
        foreach (var at in Places(disk, "INDX").Take(40))
        {
            var block = Read(disk, at, 4096);
            var entry = EntriesAt + BitConverter.ToInt32(block, EntriesAt);
            if (entry + 16 > block.Length || (block[entry + FlagsAt] & 2) != 0)
                continue;
            var damaged = block.ToArray();
            damaged[entry + FlagsAt] |= 2;
            Write(disk, at, damaged);
            var name = $"at {at}";
            // The volume's own indexes are not what is captured.
            try
            {
                var captured = Do.Capture(disk, archive, name, r => r with { KeepAll = true, AcceptUnready = true });
                Assert.Equal(whole, Paths(archive, name));
                Assert.DoesNotContain(captured.Warnings, w => w.Contains("not in the lists", StringComparison.Ordinal));
            }
            catch (VembarException problem)
            {
                // Of the volume's own indexes some are needed to open it.
                Assert.Contains(problem.Code, (string[])["lost-files", "bad-volume", "unreadable"]);
                Assert.Equal(ErrorKind.Input, problem.Kind);
                if (problem.Code == "bad-volume")
                {
                    Write(disk, at, block);
                    continue;
                }
                lost++;
                Assert.NotEmpty(problem.Details);
                var rescued = Do.Capture(disk, archive, name, r => r with { KeepAll = true, AcceptUnready = true, SkipUnreadable = true });
                Assert.Equal(whole, Paths(archive, name));
                Assert.Contains(rescued.Warnings, w => w.Contains("not in the lists", StringComparison.Ordinal));
                if (problem.Code == "lost-files" && lost == 1)
                {
                    Assert.Contains(Do.Survey(disk).Warnings, w => w.Contains("not in the lists", StringComparison.Ordinal));
                    Assert.Contains(Do.Ready(disk).Findings, f => f.Check == "unlisted");
                }
            }
            Write(disk, at, block);
        }
        Assert.True(lost > 3, $"{lost} blocks of {Places(disk, "INDX").Count} lost files");
    }

    // Two records changed places, each with the number and the check marks of the other's place.
    [Fact]
    public void SwappedRecordsAreFound()
    {
        const int RecordLength = 1024, NumberAt = 44, SequenceAt = 16, FlagsAt = 22;
        var (disk, archive) = Prepared();
        var records = Places(disk, "FILE").Where(at => BitConverter.ToUInt16(Read(disk, at + FlagsAt, 2)) == 1
            && BitConverter.ToUInt32(Read(disk, at + NumberAt, 4)) > 64).Take(200).ToList();
        var random = new Random(35);
        for (var round = 0; round < 6; round++)
        {
            var (a, b) = (records[random.Next(records.Count)], records[random.Next(records.Count)]);
            var (first, second) = (Read(disk, a, RecordLength), Read(disk, b, RecordLength));
            if (a == b)
                continue;
            byte[] In(byte[] record, byte[] place)
            {
                var moved = record.ToArray();
                place.AsSpan(NumberAt, 4).CopyTo(moved.AsSpan(NumberAt));
                place.AsSpan(SequenceAt, 2).CopyTo(moved.AsSpan(SequenceAt));
                return moved;
            }
            Write(disk, a, In(second, first));
            Write(disk, b, In(first, second));
            var problem = Assert.Throws<VembarException>(() => Do.Capture(disk, archive, "swapped", r => r with { AcceptUnready = true }));
            Assert.Equal(ErrorKind.Input, problem.Kind);
            var told = string.Join('\n', problem.Details.Append(problem.Message));
            Assert.True(told.Contains("the record of another file", StringComparison.Ordinal)
                || told.Contains("in no folder's list", StringComparison.Ordinal), told);
            Write(disk, a, first);
            Write(disk, b, second);
        }
    }
}

using System.Buffers.Binary;
using System.IO.Hashing;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

/// <summary>
/// Archives made by somebody who knows the format: wrong values under right checksums. Opening and walking them ends in
/// an error that a user can read, never in a crash, a hang, or memory without bounds.
/// </summary>
public class HostileArchiveTests
{
    private const int CommitLength = 192, HeadLength = 64;

    private static byte[] Good(TempFolder folder)
    {
        for (var i = 0; i < 8; i++)
            folder.Write($"src/d{i % 2}/f{i}", new string((char)('a' + i), 500 + i));
        var archive = folder.At("good.vmb");
        Do.Capture(folder.At("src"), archive);
        return File.ReadAllBytes(archive);
    }

    private static void Sign(Span<byte> bytes) => BinaryPrimitives.WriteUInt64LittleEndian(bytes[^8..], XxHash3.HashToUInt64(bytes[..^8]));

    // Opens, walks, reads, verifies: all that a user would do.
    private static void MustEndInOrder(TempFolder folder, byte[] bytes)
    {
        var path = folder.Write("hostile.vmb", bytes);
        try
        {
            using (var reader = ArchiveReader.Open(path))
            {
                foreach (var image in reader.Images)
                {
                    var tree = new ImageTree(reader, image.Root, "test");
                    foreach (var (at, entry) in tree.Walk(tree.Root, WindowsPath.Root).Take(1000))
                    {
                        if (entry.Content is not null)
                            tree.ReadAll(entry.Content, at, 1 << 20);
                    }
                }
            }
            Do.Verify(path);
        }
        catch (VembarException problem)
        {
            Assert.NotEqual("", problem.Message);
        }
    }

    [Fact]
    public void HeadersWithWrongValues()
    {
        using var folder = new TempFolder();
        var good = Good(folder);
        var random = new Random(31);
        for (var round = 0; round < 400; round++)
        {
            var bytes = good.ToArray();
            var at = 8 + random.Next(HeadLength - 16);
            bytes[at] = (byte)random.Next(256);
            if (round % 3 == 0)
                BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(8 + random.Next(HeadLength - 20)), (uint)random.NextInt64(1L << 32));
            Sign(bytes.AsSpan(0, HeadLength));
            MustEndInOrder(folder, bytes);
        }
    }

    [Fact]
    public void ARequiredSectionThatIsNotKnownIsRefusedAndOthersArePassedOver()
    {
        using var folder = new TempFolder();
        var good = Good(folder);
        foreach (var (flags, code) in new[] { ((ushort)1, "newer-format"), ((ushort)0, "") })
        {
            // A header of 128 bytes with one section; everything behind it moves by 64, so only the header can be right.
            var header = new byte[128];
            good.AsSpan(0, 52).CopyTo(header);
            BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(12), 128);
            BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(48), 1);
            BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(52), 0x7777);
            BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(54), flags);
            BinaryPrimitives.WriteUInt32LittleEndian(header.AsSpan(56), 10);
            Sign(header);
            var problem = Assert.Throws<VembarException>(() => ArchiveReader.Open(folder.Write("x.vmb", [.. header, .. good.AsSpan(64)])));
            Assert.Equal(code.Length > 0 ? code : "archive-damaged", problem.Code);
        }
    }

    [Fact]
    public void CommitRecordsWithWrongValues()
    {
        using var folder = new TempFolder();
        var good = Good(folder);
        var random = new Random(32);
        for (var round = 0; round < 500; round++)
        {
            var bytes = good.ToArray();
            var record = bytes.AsSpan(bytes.Length - CommitLength);
            var field = 24 + 8 * random.Next(11);
            var value = random.Next(4) switch
            {
                0 => random.NextInt64(),
                1 => -random.NextInt64(),
                2 => random.Next(bytes.Length),
                _ =>
                long.MaxValue
            };
            BinaryPrimitives.WriteInt64LittleEndian(record[field..], value);
            Sign(record);
            MustEndInOrder(folder, bytes);
        }
    }

    [Fact]
    public void IndexSegmentsWithWrongValues()
    {
        using var folder = new TempFolder();
        var good = Good(folder);
        var random = new Random(33);
        var record = good.AsSpan(good.Length - CommitLength);
        var place = (int)BinaryPrimitives.ReadInt64LittleEndian(record[40..]);
        var length = (int)BinaryPrimitives.ReadInt64LittleEndian(record[48..]);
        for (var round = 0; round < 1500; round++)
        {
            var bytes = good.ToArray();
            var index = bytes.AsSpan(place, length);
            for (var i = 0; i <= round % 3; i++)
            {
                // Most of an index is its fan-out table; the fields in front and behind decide more.
                var at = random.Next(3) == 0 ? random.Next(length - 12) : random.Next(Math.Min(400, length - 12));
                BinaryPrimitives.WriteUInt32LittleEndian(index[at..],
                    random.Next(3) switch { 0 => uint.MaxValue, 1 => (uint)random.Next(1000), _ => (uint)random.NextInt64(1L << 32) });
            }
            Sign(index);
            var commit = bytes.AsSpan(bytes.Length - CommitLength);
            BinaryPrimitives.WriteUInt64LittleEndian(commit[56..], XxHash3.HashToUInt64(index));
            Sign(commit);
            MustEndInOrder(folder, bytes);
        }
    }

    [Fact]
    public void RecordsThatAreNoJsonAndCommitsInsideOfContentAreNotTakenForReal()
    {
        using var folder = new TempFolder();
        var good = Good(folder);
        // An archive as a file within an archive, stored as it is: its commit records stand in the outer file.
        folder.Write("outer/inner.vmb", good);
        var noise = new byte[200_000];
        new Random(1).NextBytes(noise);
        folder.Write("outer/noise", noise);
        var outer = folder.At("outer.vmb");
        var root = Do.Capture(folder.At("outer"), outer).Image.Root;
        var bytes = File.ReadAllBytes(outer);
        // Cut behind the content: the inner archive's last record may now be the last thing that looks like one.
        for (var cut = bytes.Length - 1; cut > 2000; cut -= 4999)
        {
            var path = folder.Write("cut.vmb", bytes[..cut]);
            try
            {
                // The outer one, once the first copy of its record is there; before that none.
                using var reader = ArchiveReader.Open(path);
                Assert.All(reader.Images, i => Assert.Equal(root, i.Root));
            }
            catch (VembarException problem)
            {
                Assert.Equal(ErrorKind.Damaged, problem.Kind);
            }
        }
        // The same archive's own bytes inside of itself do not fool it either: a record knows its place.
        File.WriteAllBytes(folder.At("src/copy.vmb"), good);
        Do.Capture(folder.At("src"), folder.At("good.vmb"), "two");
        using var self = ArchiveReader.Open(folder.At("good.vmb"));
        Assert.Equal(2, self.Images.Count);
    }
}

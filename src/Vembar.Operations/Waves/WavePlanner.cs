using System.Globalization;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Drivers;
using Vembar.Operations.Show;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Waves;

/// <summary>Finds out which parts of an archive a machine reads to get an image, in which order.</summary>
public static class WavePlanner
{
    private const int LongestPiece = 512 << 10;
    private const int HashBytes = 16;

    /// <summary>Plans it.</summary>
    /// <param name="source">The archive's bytes; they are not closed.</param>
    /// <param name="archive">What it is called, and where its bases are.</param>
    /// <param name="image">The image's number.</param>
    /// <param name="clock">Says what day it is, for marks that end.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">The archive cannot be read, or lacks the image.</exception>
    public static WavePlan Make(IByteSource source, ArchiveLocation archive, int image, TimeProvider clock, CancellationToken cancellation)
    {
#pragma warning disable CA2000 // it owns nothing
        using var recording = new RecordingSource(new Unowned(source));
#pragma warning restore CA2000
        using var reader = ArchiveReader.Open(recording, archive);
        reader.EnsureWholeIndex();
        var record = reader.Find(image.ToString(CultureInfo.InvariantCulture), clock);
        var tree = new ImageTree(reader, record.Root, $"{archive}#{image}");
        Look(recording, archive, record, tree, clock, cancellation);
        var files = new List<(FileContent Content, Images.Paths.WindowsPath Path)>();
        foreach (var (path, entry) in tree.Walk(tree.Root, Images.Paths.WindowsPath.Root))
        {
            cancellation.ThrowIfCancellationRequested();
            foreach (var content in entry.Streams.Select(s => s.Content).Prepend(entry.Content))
            {
                if (content is { Length: > 0 })
                    files.Add((content, path));
            }
        }
        var contents = files.OrderBy(f => reader.OrderOf(f.Content)).SelectMany(f => tree.Parts(f.Content, f.Path)
            .Where(p => !p.IsHole).Select(p => reader.BlockOf(p.Id)).OfType<BlockInfo>()).Distinct().Select(RangeOf).ToList();
        var ranges = Joined([.. recording.Ranges.Concat(reader.TreeBlocks().Select(RangeOf)).OrderBy(r => r.Start)]);
        var covered = new SortedList<long, long>();
        var first = Cut(source, ranges, covered, cancellation);
        return new WavePlan([.. first, .. Cut(source, Joined(contents), covered, cancellation)], first.Count);
    }

    // What a machine reads before its disk is divided, and what it looks at when it has written it: who waited for all that lies before
    // it in a wave would begin when the wave ends. It comes first, and is kept.
    private static void Look(RecordingSource recording, ArchiveLocation archive, ImageRecord record, ImageTree tree,
        TimeProvider clock, CancellationToken cancellation)
    {
        var context = new ServiceContext(new TreeEditor(tree) { Clock = clock }) { MayChange = false };
        if (context.Install is null)
            return;
        _ = context.Tree.ReadFile(context.Windows(AnswersChange.Place), AnswerFile.Longest);
        var boot = context.Windows("Boot");
        foreach (var (path, entry) in tree.Find(boot) is { } found ? tree.Walk(found, boot) : [])
        {
            cancellation.ThrowIfCancellationRequested();
            if (entry.Kind == EntryKind.File)
                _ = context.Tree.ReadFile(path, RegistryHive.Longest);
        }
        var host = new OperationHost
        {
            Files = new OverlaidFileSystem(LocalFileSystem.Instance, archive.Path, () => new Unowned(recording)),
            Clock = clock,
        };
        var image = new ImageReference(archive, record.Number.ToString(CultureInfo.InvariantCulture));
        var progress = new Progress<OperationProgress>();
        Blocking.Wait(new ShowHandler(host).HandleAsync(new ShowRequest(image, false, false), progress, cancellation));
        try
        {
            Blocking.Wait(new CoverageHandler(host).HandleAsync(new CoverageRequest([], image, "", [], DriverTrust.Nobody), progress,
                cancellation));
        }
        catch (VembarException problem) when (problem.Code == "no-driver-store")
        {
            // Nobody looks into it then.
        }
    }

    private static (long Start, long End) RangeOf(BlockInfo block) => (block.Offset, block.Offset + block.WholeLength);

    // As whoever fetches them joins them.
    private static List<(long Start, long End)> Joined(IReadOnlyList<(long Start, long End)> ranges)
    {
        var joined = new List<(long Start, long End)>();
        foreach (var range in ranges)
        {
            if (joined is [.., var last] && range.Start >= last.Start && range.Start - last.End <= BlocksAhead.WorthReadingOver)
                joined[^1] = (last.Start, Math.Max(last.End, range.End));
            else
                joined.Add(range);
        }
        return joined;
    }

    private static List<WavePiece> Cut(IByteSource source, List<(long Start, long End)> ranges, SortedList<long, long> covered,
        CancellationToken cancellation)
    {
        var pieces = new List<WavePiece>();
        var buffer = new byte[LongestPiece];
        foreach (var (from, end) in ranges)
        {
            foreach (var (start, stop) in Uncovered(covered, from, end))
            {
                for (var at = start; at < stop; at += LongestPiece)
                {
                    cancellation.ThrowIfCancellationRequested();
                    var bytes = buffer.AsSpan(0, (int)Math.Min(LongestPiece, stop - at));
                    if (source.Read(bytes, at) < bytes.Length)
                        throw VembarException.Damaged("the archive is cut short");
                    pieces.Add(new WavePiece(at, bytes.Length, HashOf(bytes)));
                }
                covered[start] = stop;
            }
        }
        return pieces;
    }

    // What is not in it yet of a stretch.
    private static List<(long Start, long End)> Uncovered(SortedList<long, long> covered, long start, long end)
    {
        var (low, high) = (0, covered.Count);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (covered.GetValueAtIndex(middle) <= start)
                low = middle + 1;
            else
                high = middle;
        }
        var left = new List<(long Start, long End)>();
        var at = start;
        for (; low < covered.Count && covered.GetKeyAtIndex(low) < end; low++)
        {
            if (covered.GetKeyAtIndex(low) > at)
                left.Add((at, covered.GetKeyAtIndex(low)));
            at = Math.Max(at, covered.GetValueAtIndex(low));
        }
        if (at < end)
            left.Add((at, end));
        return left;
    }

    /// <summary>What a piece is checked by.</summary>
    internal static string HashOf(ReadOnlySpan<byte> bytes) => Blake3.Hash(bytes).ToString()[..(2 * HashBytes)];

    private sealed class Unowned(IByteSource source) : IByteSource
    {
        public long Length => source.Length;

        public bool IsRemote => source.IsRemote;

        public int Read(Span<byte> to, long offset) => source.Read(to, offset);

        public void Dispose()
        {
        }
    }
}

using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.History;
using Vembar.Operations.Show;
using Vembar.Store.Reading;

namespace Vembar.Operations.Report;

/// <summary>Tells what an archive holds, how it grew, what its images share, and where their room goes.</summary>
public sealed class ReportHandler(OperationHost host) : IOperationHandler<ReportRequest, ReportResult>
{
    // Each reads hives of an install into memory.
    private const int MostAtOnce = 4;

    /// <summary>Looks at all images of one state of the archive; one that is damaged is left out and told.</summary>
    /// <exception cref="VembarException">The archive cannot be opened, or there is no such image.</exception>
    public Task<ReportResult> HandleAsync(ReportRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => ReportAsync(request, progress, cancellation), cancellation);

    private async Task<ReportResult> ReportAsync(ReportRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        var all = archive.Images.OrderBy(i => i.Number).ToList();
        var asked = request.SpaceOf is { } which ? archive.Find(which, host.Clock) : null;
        var problems = archive.LostImages.Select(l => $"image {l.Number} cannot be read: {l.Problem}").ToList();

        var comparison = new ContentComparison(cancellation);
        var compared = Told(progress, "comparing images", all.Count);
        var (records, trees) = (new List<ImageRecord>(), new List<ImageTree>());
        for (var at = 0; at < all.Count; at++)
        {
            if (Sound(() => Added(all[at]), $"image {all[at].Number} is left out", problems) is { } tree)
            {
                records.Add(all[at]);
                trees.Add(tree);
            }
            compared.Report(at + 1);
        }
        ImageTree Added(ImageRecord record)
        {
            var tree = new ImageTree(archive, record.Root, $"{archive.Path}#{record.Number}");
            comparison.Add(tree);
            return tree;
        }

        var contents = new ShowResult[records.Count];
        var damaged = new List<string>[records.Count];
        var looked = Told(progress, "looking into images", records.Count);
        var done = 0;
        await Parallel.ForAsync(0, records.Count,
            new ParallelOptions { MaxDegreeOfParallelism = Math.Min(MostAtOnce, host.Workers), CancellationToken = cancellation },
            (at, _) =>
            {
                contents[at] = Sound(() => ShowHandler.Of(archive, records[at], trees[at]), $"image {records[at].Number}", damaged[at] = [])
                    ?? new ShowResult(archive.Path, records[at], null, null);
                looked.Report(Interlocked.Increment(ref done));
                return ValueTask.CompletedTask;
            }).ConfigureAwait(false);
        problems.AddRange(damaged.SelectMany(d => d));

        var describer = new StateDescriber(archive);
        var images = records.Select((r, at) => new ReportedImage(r, SourceOf(r), ParentOf(r, records, archive), contents[at])).ToList();
        var chosen = asked is not null ? records.FindIndex(r => r.Number == asked.Number)
            : records.FindLastIndex(r => r.Product.Length > 0) is >= 0 and var windows ? windows : records.Count - 1;
        var space = chosen < 0 ? null : Sound(() => ImageSpace.Of(records[chosen].Number, trees[chosen], contents[chosen].Programs ?? [],
            cancellation), $"space of image {records[chosen].Number}", problems);
        return new ReportResult(archive.Path, archive.FileLength, images, comparison.Compare(),
            [.. archive.States().Where(s => s.Commit is not null).Select(describer.Describe)], space)
        {
            Problems = [.. problems, .. images.SelectMany(i => i.Contents.Problems.Select(p => $"image {i.Record.Number}: {p}"))],
        };
    }

    // What is damaged is left out and told; the report is on the rest.
    private static T? Sound<T>(Func<T> read, string what, List<string> problems) where T : class
    {
        try
        {
            return read();
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
        {
            problems.Add($"{what}: {problem.Message}");
            return null;
        }
    }

    private static Progress Told(IProgress<OperationProgress> progress, string phase, int total) => new(progress, phase, total);

    // A capture notes what it read; what was made from it keeps that note.
    private static string SourceOf(ImageRecord record)
    {
        const string From = "from ";
        if (record.Origin.Kind != "image")
            return record.Origin.From;
        return record.History.FirstOrDefault(h => h.Action == "capture")?.Details.FirstOrDefault(d =>
            d.StartsWith(From, StringComparison.Ordinal)) is { } detail ? detail[From.Length..].Split(", volume ")[0] : "";
    }

    private static int? ParentOf(ImageRecord record, List<ImageRecord> records, ArchiveReader archive)
    {
        if (record.Origin.Kind != "image" || record.Origin.From.LastIndexOf('#') is not (> 0 and var at)
            || !Guid.TryParse(record.Origin.From[..at], out var id) || id != archive.Header.Id
            || !int.TryParse(record.Origin.From[(at + 1)..], out var number))
            return null;
        return number != record.Number && records.Exists(r => r.Number == number) ? number : null;
    }

    private sealed class Progress(IProgress<OperationProgress> progress, string phase, int total) : IProgress<int>
    {
        public void Report(int value) => progress.Report(new OperationProgress(phase, value, total, false, ""));
    }
}

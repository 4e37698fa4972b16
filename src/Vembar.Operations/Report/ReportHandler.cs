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

    /// <summary>Looks at all images of one state of the archive.</summary>
    /// <exception cref="VembarException">The archive cannot be opened, folders of an image are damaged, or there is no such
    /// image.</exception>
    public Task<ReportResult> HandleAsync(ReportRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => ReportAsync(request, progress, cancellation), cancellation);

    private async Task<ReportResult> ReportAsync(ReportRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        var records = archive.Images.OrderBy(i => i.Number).ToList();
        var spaceOf = request.SpaceOf is { } which ? archive.Find(which, host.Clock)
            : records.LastOrDefault(r => r.Product.Length > 0) ?? records.LastOrDefault();
        var trees = records.ConvertAll(r => new ImageTree(archive, r.Root, $"{archive.Path}#{r.Number}"));
        var sharing = ContentSharing.Of(trees, Told(progress, "comparing images", trees.Count), cancellation);

        var contents = new ShowResult[records.Count];
        var looked = Told(progress, "looking into images", records.Count);
        var done = 0;
        await Parallel.ForAsync(0, records.Count,
            new ParallelOptions { MaxDegreeOfParallelism = Math.Min(MostAtOnce, host.Workers), CancellationToken = cancellation },
            (at, _) =>
            {
                contents[at] = ShowHandler.Of(archive, records[at], trees[at]);
                looked.Report(Interlocked.Increment(ref done));
                return ValueTask.CompletedTask;
            }).ConfigureAwait(false);

        var describer = new StateDescriber(archive);
        var images = records.Select((r, at) => new ReportedImage(r, SourceOf(r), ParentOf(r, records, archive), contents[at])).ToList();
        var space = spaceOf is null ? null : images.FindIndex(i => i.Record.Number == spaceOf.Number) is var chosen
            ? ImageSpace.Of(spaceOf.Number, trees[chosen], contents[chosen].Programs ?? [], cancellation) : null;
        return new ReportResult(archive.Path, archive.FileLength, images, sharing,
            [.. archive.States().Where(s => s.Commit is not null).Select(describer.Describe)], space)
        {
            Problems = [.. archive.LostImages.Select(l => $"image {l.Number} cannot be read: {l.Problem}"),
                .. images.SelectMany(i => i.Contents.Problems.Select(p => $"image {i.Record.Number}: {p}"))],
        };
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

using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Copy;
using Vembar.Operations.Project;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Sites;

/// <summary>Brings sites to what they should be: copies what they lack, takes off their lists what they need not have.</summary>
public sealed class SyncHandler(OperationHost host) : IOperationHandler<SyncRequest, IReadOnlyList<SyncResult>>
{
    private const int AtOnce = 4;

    /// <summary>Does several at once. Where one fails, the others go on.</summary>
    /// <exception cref="VembarException">The archive cannot be read.</exception>
    /// <exception cref="OperationCanceledException">It was ended; each site has what was finished there.</exception>
    public async Task<IReadOnlyList<SyncResult>> HandleAsync(SyncRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using (var archive = ArchiveReader.Open(request.Archive, host.Files))
        {
            _ = archive.Images;
            // Sites would go back to what was before it.
            Checks.DemandNewest(archive);
        }
        var results = new SyncResult[request.Sites.Count];
        await Parallel.ForAsync(0, results.Length, new ParallelOptions
        {
            MaxDegreeOfParallelism = AtOnce,
            CancellationToken = cancellation,
        },
            async (at, stop) => results[at] = await SyncAsync(request, request.Sites[at], progress, stop).ConfigureAwait(false))
            .ConfigureAwait(false);
        new SiteMemory(request.Memory).Remember(results.Where(r => r.Problem is null).Select(r => r.Site.Place), host.Now);
        return results;
    }

    private async Task<SyncResult> SyncAsync(SyncRequest request, Site site, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var steps = new List<SyncStep>();
        var labelled = new Labelled(progress, site.Name);
        try
        {
            SiteComparison comparison;
            using (var archive = ArchiveReader.Open(request.Archive, host.Files))
                comparison = SiteComparison.Of(archive, site, host.Files, host.Today);
            // What comes in comes first, so that a site has something in each channel all the time.
            foreach (var (wanted, there) in comparison.Pairs.Where(p => p.There?.Root != p.Wanted.Root))
                steps.Add(await CopyAsync(request, site, wanted, there, labelled, cancellation).ConfigureAwait(false));
            await MarkAndDropAsync(request, site, comparison, steps, cancellation).ConfigureAwait(false);
            return new SyncResult(site, steps, clock.Elapsed.TotalSeconds, null);
        }
        catch (VembarException problem)
        {
            return new SyncResult(site, steps, clock.Elapsed.TotalSeconds, problem);
        }
    }

    private async Task<SyncStep> CopyAsync(SyncRequest request, Site site, ImageRecord wanted, ImageRecord? there,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var what = there is null ? "copy" : "replace";
        if (there is { Locked: true })
            return new SyncStep("keep", wanted.Title, false, 0, "it has another content there, and is locked");
        if (request.PlanOnly)
            return new SyncStep(what, wanted.Title, false, 0, "");
        var copied = await new CopyHandler(host).HandleAsync(
            new CopyRequest(new ImageReference(request.Archive, $"{wanted.Number}"), site.Place, null, wanted.Version, request.Wait)
            {
                Replace = there?.Number,
            }, progress, cancellation).ConfigureAwait(false);
        return new SyncStep(what, wanted.Title, true, copied.Stats.BytesStored, "");
    }

    // Marks and channels, then what need not be there any more; each a state of its own.
    private async Task MarkAndDropAsync(SyncRequest request, Site site, SiteComparison comparison, List<SyncStep> steps,
        CancellationToken cancellation)
    {
        foreach (var (wanted, there) in comparison.Pairs)
        {
            if (there is null || there.Root != wanted.Root || SiteComparison.IsMarked(there, wanted))
                continue;
            if (!request.PlanOnly)
            {
                using var writer = await OpenAsync(request, site, cancellation).ConfigureAwait(false);
                if (writer.Base.Images.FirstOrDefault(i => i.Number == there.Number) is not { } now)
                    continue;
                var marked = SiteComparison.Marked(now, wanted);
                writer.CommitImage(marked, now.Number, Checks.Change("sync", now.Number, marked));
            }
            steps.Add(new SyncStep("mark", wanted.Title, !request.PlanOnly, 0, string.Join(", ", wanted.Channels ?? [])));
        }
        foreach (var extra in comparison.Extra)
        {
            if (extra.Locked)
            {
                steps.Add(new SyncStep("keep", extra.Title, false, 0, "it is locked"));
                continue;
            }
            if (!request.PlanOnly)
            {
                using var writer = await OpenAsync(request, site, cancellation).ConfigureAwait(false);
                if (writer.Base.Images.FirstOrDefault(i => i.Number == extra.Number && i.Root == extra.Root) is not { Locked: false } now)
                    continue;
                writer.CommitDrop(now.Number, Checks.Change("drop", now.Number, now));
            }
            steps.Add(new SyncStep("drop", extra.Title, !request.PlanOnly, 0, ""));
        }
    }

    private Task<ArchiveWriter> OpenAsync(SyncRequest request, Site site, CancellationToken cancellation) =>
        ArchiveWriter.OpenAsync(site.Place, host.WriterOptions(request.Wait), cancellation);

    // Several sites tell at once how far they are.
    private sealed class Labelled(IProgress<OperationProgress> progress, string site) : IProgress<OperationProgress>
    {
        public void Report(OperationProgress value) => progress.Report(value with { Phase = $"{site}: {value.Phase}" });
    }
}

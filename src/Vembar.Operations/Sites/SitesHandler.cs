using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Project;
using Vembar.Store.Reading;

namespace Vembar.Operations.Sites;

/// <summary>Compares sites with the archive that they keep copies of.</summary>
public sealed class SitesHandler(OperationHost host) : IOperationHandler<SitesRequest, IReadOnlyList<SiteState>>
{
    private const int AtOnce = 6;

    /// <summary>Compares all of them, several at once; one that cannot be reached keeps none of the others back.</summary>
    /// <exception cref="VembarException">The archive cannot be read.</exception>
    public async Task<IReadOnlyList<SiteState>> HandleAsync(SitesRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        _ = archive.Images;
        var memory = new SiteMemory(request.Memory);
        var states = new SiteState[request.Sites.Count];
        var done = 0;
        await Parallel.ForAsync(0, states.Length, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = cancellation },
            (at, _) =>
            {
                states[at] = Compare(archive, request.Sites[at], memory);
                progress.Report(new OperationProgress("comparing", Interlocked.Increment(ref done), states.Length, false,
                    request.Sites[at].Name));
                return ValueTask.CompletedTask;
            }).ConfigureAwait(false);
        memory.Remember(states.Where(s => s.Problem is null).Select(s => s.Site.Place), host.Now);
        return states;
    }

    private SiteState Compare(ArchiveReader archive, Site site, SiteMemory memory)
    {
        try
        {
            return new SiteState(site, SiteComparison.Of(archive, site, host.Files, host.Today).Rows(), host.Now, null);
        }
        catch (VembarException problem)
        {
            return new SiteState(site, [], memory.Last(site.Place), problem);
        }
    }
}

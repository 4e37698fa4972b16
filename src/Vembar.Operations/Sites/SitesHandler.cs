using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Project;
using Vembar.Operations.Verify;
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
            async (at, stop) =>
            {
                states[at] = Compare(archive, request.Sites[at], memory);
                if (request.Verify && states[at].Problem is null)
                    states[at] = await VerifyAsync(states[at], progress, stop).ConfigureAwait(false);
                progress.Report(new OperationProgress("comparing", Interlocked.Increment(ref done), states.Length, false,
                    request.Sites[at].Name));
            }).ConfigureAwait(false);
        memory.Remember(states.Where(s => s.Problem is null).Select(s => s.Site.Place), host.Now);
        return states;
    }

    private async Task<SiteState> VerifyAsync(SiteState state, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        const int MostTold = 5;
        try
        {
            if (!host.Files.Exists(state.Site.Place))
                return state;
            var result = await new VerifyHandler(host).HandleAsync(new VerifyRequest(state.Site.Place), progress, cancellation)
                .ConfigureAwait(false);
            if (result.Damage.Count == 0)
                return state;
            using var there = ArchiveReader.OpenToMend(state.Site.Place, host.Files);
            string NameOf(int number) => there.Images.FirstOrDefault(i => i.Number == number)?.Name ?? "";
            var damage = result.Damage.GroupBy(d => NameOf(d.Image), StringComparer.OrdinalIgnoreCase).ToDictionary(g => g.Key, g =>
                g.Take(MostTold).Select(d => d.Path.Length > 0 ? $"{d.Path}: {d.Problem}" : d.Problem).ToList(),
                StringComparer.OrdinalIgnoreCase);
            var rows = state.Images.Select(i => damage.Remove(i.Name, out var own) ? i with
            {
                Damaged = [.. i.Damaged, .. own],
            } : i).ToList();
            rows.AddRange(damage.Select(d => new SiteImages(d.Key, [], [], [], [], d.Value, [])));
            return state with { Images = rows };
        }
        catch (VembarException problem)
        {
            return state with { Problem = problem };
        }
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

using Vembar.Common;
using Vembar.Store.Reading;

namespace Vembar.Operations.History;

/// <summary>Tells the states of an archive.</summary>
public sealed class HistoryHandler(OperationHost host) : IOperationHandler<HistoryRequest, HistoryResult>
{
    /// <summary>The states since the archive was made or last rewritten; also those that are damaged, as far as that lets them be
    /// found.</summary>
    /// <exception cref="VembarException">The archive cannot be opened at all.</exception>
    public Task<HistoryResult> HandleAsync(HistoryRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var archive = ArchiveReader.OpenToMend(request.Archive, host.Files);
        var states = archive.States();
        var describer = new StateDescriber(archive);
        return Task.FromResult(new HistoryResult(
            [.. states.Where(s => s.Commit is not null).Select(describer.Describe).Reverse()],
            [.. states.Where(s => s.Commit is null).Select(s => s.Problem)],
            archive.IsNewerStateDamaged ? archive.Sequence : null));
    }
}

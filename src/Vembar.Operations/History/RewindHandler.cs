using Vembar.Common;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.History;

/// <summary>Goes back to a state of an archive.</summary>
public sealed class RewindHandler(OperationHost host) : IOperationHandler<RewindRequest, ArchiveState>
{
    /// <summary>Makes an earlier state the present one, by a further state that lists what it did.</summary>
    /// <returns>The state as it was.</returns>
    /// <exception cref="VembarException">There is no such state, it is damaged, or the archive cannot be written.</exception>
    public async Task<ArchiveState> HandleAsync(RewindRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (path, number, wait) = request;
        using var writer = await ArchiveWriter.OpenToMendAsync(path, WriterPurpose.Rewind, new Mending(), host.WriterOptions(wait),
            cancellation).ConfigureAwait(false);
        var states = writer.Base.States();
        var found = states.FindIndex(s => s.Commit?.Sequence == number);
        if (found < 0)
        {
            throw VembarException.Input("no-such-state",
                $"'{path}' has no state {number}{(states[^1].Commit is null ? " that can be found" : "")}",
                Advice.Of("no-such-state"),
                [.. states.AsEnumerable().Reverse()
                .Select(s => s.Commit is null ? s.Problem : $"{s.Commit.Sequence}: {s.Catalogue?.Change ?? "damaged"}")]);
        }
        if (states[found].Catalogue is not { } catalogue)
            throw VembarException.Damaged($"state {number} of '{path}' cannot be gone back to: {states[found].Problem}",
                Advice.Of("other-state"));
        var described = new StateDescriber(writer.Base).Describe(states[found]);
        if (found > 0 || writer.Base.IsIndexRebuilt)
        {
            // A number is never given again; each state whose list cannot be read may have given one.
            var next = states.Max(s => s.Catalogue?.NextNumber ?? 1) + states.Count(s => s.Catalogue is null);
            writer.CommitRewind(catalogue with { NextNumber = next }, $"rewind to {number}");
        }
        return described;
    }
}

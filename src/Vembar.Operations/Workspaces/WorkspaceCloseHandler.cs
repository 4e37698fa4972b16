using Vembar.Common;

namespace Vembar.Operations.Workspaces;

/// <summary>Closes a workspace: takes its folder away.</summary>
public sealed class WorkspaceCloseHandler(OperationHost host) : IOperationHandler<WorkspaceCloseRequest, int>
{
    /// <summary>Closes it.</summary>
    /// <returns>How many changes were lost.</returns>
    /// <exception cref="VembarException">It has changes, or it cannot be told whether it has; it stays.</exception>
    public async Task<int> HandleAsync(WorkspaceCloseRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var (folder, loseChanges, archive) = request;
        Task<WorkspaceStatus> StatusAsync() =>
            new WorkspaceStatusHandler(host).HandleAsync(new WorkspaceStatusRequest(folder, archive), progress, cancellation);
        var lost = 0;
        if (!loseChanges)
        {
            var status = await StatusAsync().ConfigureAwait(false);
            if (status.Changes.Count + status.Problems.Count > 0)
                throw VembarException.Input("not-saved",
                    $"'{folder}' has {status.Changes.Count} {(status.Changes.Count == 1 ? "change" : "changes")} that "
                    + $"{(status.Changes.Count == 1 ? "is" : "are")} not saved", Advice.Of("not-saved"),
                    [.. status.Changes.Take(10).Select(c => $"{c.Kind.ToString().ToLowerInvariant()} {c.Path}")]);
        }
        else
        {
            try
            {
                lost = (await StatusAsync().ConfigureAwait(false)).Changes.Count;
            }
            catch (VembarException problem) when (problem.Code is not ("not-a-workspace" or "locked"))
            {
                // Whatever it is, it is to go.
            }
        }
        using var workspace = Workspace.Use(folder, toClose: true);
        workspace.Delete(progress);
        return lost;
    }
}

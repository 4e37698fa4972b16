using Vembar.Common;

namespace Vembar.Operations.Workspaces;

/// <summary>Tells what was changed in a workspace.</summary>
public sealed class WorkspaceStatusHandler(OperationHost host) : IOperationHandler<WorkspaceStatusRequest, WorkspaceStatus>
{
    /// <summary>Looks at it.</summary>
    /// <exception cref="VembarException">It is no workspace, is damaged, or its archive cannot be read.</exception>
    public async Task<WorkspaceStatus> HandleAsync(WorkspaceStatusRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var workspace = Workspace.Use(request.Folder);
        using var reader = WorkspaceArchive.OpenArchive(workspace, request.Archive, host.Files);
        WorkspaceArchive.FinishSaving(workspace, reader);
        var editor = WorkspaceArchive.Editor(reader, workspace.State.Image, workspace.State, host.Clock);
        using var look = await WorkspaceLook.AtAsync(workspace, reader, editor, host, progress, cancellation).ConfigureAwait(false);
        return look.Status;
    }
}

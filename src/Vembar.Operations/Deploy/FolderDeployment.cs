using Vembar.Common;
using Vembar.Volumes.Targets;

namespace Vembar.Operations.Deploy;

/// <summary>Writes an image into a folder of Linux.</summary>
/// <param name="deployment">What is written, and how.</param>
internal sealed class FolderDeployment(Deployment deployment)
{
    /// <summary>Writes and, where asked to, reads back.</summary>
    /// <exception cref="VembarException">Something is in the way.</exception>
    public async Task<DeployResult> RunAsync(CancellationToken cancellation)
    {
        var (request, archive, image) = (deployment.Request, deployment.Archive, deployment.Image);
        var made = !Directory.Exists(request.Target);
        FolderTarget? target = null;
        try
        {
            if (made)
                Directory.CreateDirectory(request.Target);
            target = new FolderTarget(request.Target, deployment.Editor, deployment.Tree, archive,
                deployment.Options with { KeepExisting = request.KeepExisting, Key = deployment.JournalKey() });
            deployment.Tell("looking");
            using var pause = deployment.Host.Memory.BeginKeeping();
            await target.PlanAsync(cancellation).ConfigureAwait(false);
            if (!request.SkipRoomCheck && !request.KeepExisting && !target.IsResuming)
                TargetChecks.Room(request.Target, target.BytesToWrite);
            deployment.Host.Memory.EndPhase(image.Files);
            await target.WriteAsync(deployment.Telling("writing files"), cancellation).ConfigureAwait(false);
            var differences = request.Verify
                ? await target.VerifyAsync(deployment.Telling("reading back"), cancellation).ConfigureAwait(false) : [];
            deployment.WarnOfLost("this file system cannot keep it", target.Lost);
            var kept = target.Kept.ToList();
            deployment.WarnOfKept(kept.Count);
            return new DeployResult(image, request.Target, target.Files, target.Bytes, deployment.Clock.Elapsed.TotalSeconds, kept,
                differences, request.Verify, deployment.Warnings, target.Resumed, [])
            {
                NotKept = target.Lost,
            };
        }
        catch (Exception failure)
        {
            if (made && Directory.Exists(request.Target) && !Directory.EnumerateFileSystemEntries(request.Target).Any())
                Directory.Delete(request.Target);
            var left = target is null ? "" : target.Left(request.Target);
            const string Hint = "Run the same command again to go on, or remove it.";
            if (left.Length > 0 && Deployment.Wrap(failure, "write into", request.Target, left, Hint) is { } told)
                throw told;
            if (failure is not VembarException && VembarException.From(failure, "write into", request.Target) is { } error)
                throw error;
            throw;
        }
        finally
        {
            target?.Dispose();
        }
    }
}

using System.Diagnostics;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Drop;

/// <summary>Rewrites an archive without what no image needs.</summary>
public sealed class CompactHandler(OperationHost host) : IOperationHandler<CompactRequest, CompactResult>
{
    /// <summary>Writes a new file beside the old one and puts it in its place at the end, whole.</summary>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    public async Task<CompactResult> HandleAsync(CompactRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var place = request.Archive;
        var clock = Stopwatch.StartNew();
        if (place.IsRemote)
            return await CompactPlaceAsync(request, clock, progress, cancellation).ConfigureAwait(false);
        var path = place.Path;
        var fileSystem = host.Files;
        // A link to an archive stays a link: what it points to is rewritten.
        var full = Path.GetFullPath(path);
        if (File.Exists(full) && File.ResolveLinkTarget(full, returnFinalTarget: true) is { } target)
            full = target.FullName;
        // Nobody is kept from writing while somebody thinks.
        using var old = await AgreedAsync(request, full, cancellation).ConfigureAwait(false);
        var folder = Path.GetDirectoryName(full)!;
        var prefix = $".{Path.GetFileName(full)}.compact-";
        // The lock is ours, so what another run left behind belongs to nobody.
        foreach (var left in Directory.Exists(folder) ? Directory.EnumerateFiles(folder, prefix + "*") : [])
            fileSystem.Delete(left);
        var scratch = Path.Combine(folder, prefix + Guid.NewGuid().ToString("N"));
        var before = old.Base.FileLength;
        EnsureNothingLost(old.Base);
        try
        {
            await RewriteAsync(old.Base, scratch, request.Effort, host.Files, progress, cancellation).ConfigureAwait(false);
            // Who may read the archive stays as it was.
            using (var handle = Native.Posix.OpenFile(scratch, write: true))
            {
                var was = Native.Posix.Stat(null, Native.PosixName.Encode(full));
                Native.Posix.SetMode(handle, was.Mode);
                Native.Posix.TrySetOwner(handle, was.Uid, was.Gid);
            }
            old.EnsureInPlace();
            fileSystem.Rename(scratch, full, replace: true);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "rewrite", path) is { } error)
        {
            Remove(scratch, fileSystem);
            throw error;
        }
        catch
        {
            Remove(scratch, fileSystem);
            throw;
        }
        return new CompactResult(path, old.Base.Images.Count, before, Native.Posix.Stat(null, Native.PosixName.Encode(full)).Size,
            clock.Elapsed.TotalSeconds);
    }

    // The archive, open to be rewritten, with what goes as it was agreed to. What others added meanwhile stays; where more would go than
    // was said, it is asked again.
    private async Task<ArchiveWriter> AgreedAsync(CompactRequest request, string full, CancellationToken cancellation)
    {
        const int Most = 5;
        for (var turn = 1; ; turn++)
        {
            var asked = request.MayCompact is null ? null : await AskAsync(request, full, cancellation).ConfigureAwait(false);
            var old = await ArchiveWriter.OpenAsync(new ArchiveLocation(full, request.Archive.Bases), host.WriterOptions(request.Wait),
                cancellation).ConfigureAwait(false);
            try
            {
                if (asked is null || asked.Sequence == old.Base.Sequence
                    || IsNoMore(await Task.Run(() => CompactLosses.Of(old.Base, full), cancellation).ConfigureAwait(false), asked.Loss))
                    return old;
            }
            catch
            {
                old.Dispose();
                throw;
            }
            old.Dispose();
            if (turn == Most)
                throw Changed(request.Archive.Path);
        }
    }

    private static bool IsNoMore(CompactLoss now, CompactLoss agreed) => now.Gone.All(agreed.Gone.Contains)
        && now.Dependents.All(agreed.Dependents.Contains) && (now.States == 0 || agreed.States > 0);

    private sealed record Agreement(long Sequence, CompactLoss Loss);

    private static void EnsureNothingLost(ArchiveReader archive)
    {
        if (archive.LostImages.Count > 0)
            throw VembarException.Damaged($"'{archive.Path}' is not rewritten, for its images "
                + $"{string.Join(", ", archive.LostImages.Select(i => i.Number))} would be lost: their records are damaged",
                Advice.Of("heal"));
    }

    // All that the images of an archive need goes into a new file.
    private async Task RewriteAsync(ArchiveReader archive, string scratch, Effort? effort, IFileSystem files,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var options = host.WriterOptions(default) with { Effort = effort ?? Effort.Balanced, Files = files };
        using var fresh = ArchiveWriter.CreateFor(archive, scratch, options);
        var needed = new NeededChunks(archive, fresh);
        using (archive.FetchTrees())
        {
            foreach (var image in archive.Images)
                needed.Want(new ImageTree(archive, image.Root, $"{archive.Path}#{image.Number}"), image.Root);
        }
        await needed.CopyAsync(recompress: effort is not null, progress, cancellation).ConfigureAwait(false);
        cancellation.ThrowIfCancellationRequested();
        fresh.CommitAll(archive, "compact");
    }

    // The new file is made here, and published in place of all that is there.
    private async Task<CompactResult> CompactPlaceAsync(CompactRequest request, Stopwatch clock, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var asked = request.MayCompact is null ? null : await AskAsync(request, null, cancellation).ConfigureAwait(false);
        using var old = await ArchiveWriter.OpenAsync(request.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        if (asked is not null && asked.Sequence != old.Base.Sequence
            && !IsNoMore(await Task.Run(() => CompactLosses.Of(old.Base, null), cancellation).ConfigureAwait(false), asked.Loss))
            throw Changed(request.Archive.Path);
        EnsureNothingLost(old.Base);
        try
        {
            using var folder = ScratchFolder.Make(host.TemporaryFolder);
            var scratch = Path.Combine(folder.Path, "archive");
            await RewriteAsync(old.Base, scratch, request.Effort, LocalFileSystem.Instance, progress, cancellation).ConfigureAwait(false);
            old.ReplaceBy(scratch);
            return new CompactResult(request.Archive.Path, old.Base.Images.Count, old.Base.FileLength, new FileInfo(scratch).Length,
                clock.Elapsed.TotalSeconds);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "rewrite", request.Archive.Path) is { } error)
        {
            throw error;
        }
    }

    private static VembarException Changed(string path) => VembarException.Input("archive-changed",
        $"'{path}' was changed by somebody else meanwhile", "Look again, and compact it if that is still meant.");

    // What was agreed to, and of which state.
    private async Task<Agreement> AskAsync(CompactRequest request, string? file, CancellationToken cancellation)
    {
        using var reader = ArchiveReader.Open(file is null ? request.Archive
            : new ArchiveLocation(file, request.Archive.Bases), host.Files);
        var loss = await Task.Run(() => CompactLosses.Of(reader, file), cancellation).ConfigureAwait(false);
        if (!loss.IsNothing && !request.MayCompact!(loss with { Archive = request.Archive.Path }))
            throw VembarException.Input("not-confirmed", $"'{request.Archive}' was not compacted: that was not confirmed",
                Advice.Of("confirm-compact"));
        return new Agreement(reader.Sequence, loss);
    }

    private static void Remove(string scratch, IFileSystem fileSystem)
    {
        if (Native.Posix.Exists(scratch))
            fileSystem.Delete(scratch);
    }
}

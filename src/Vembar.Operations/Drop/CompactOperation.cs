using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Writing;

namespace Vembar.Operations.Drop;

/// <summary>Rewrites an archive without what no image needs.</summary>
public static class CompactOperation
{
    /// <summary>Writes a new file beside the old one and puts it in its place at the end, whole.</summary>
    /// <param name="place">The archive.</param>
    /// <param name="effort">Compress everything anew; null takes blocks as they are where all of them is needed.</param>
    /// <param name="wait">How long to wait for another writer.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the archive is as it was.</param>
    /// <param name="fileSystem">The file system; null for the real one.</param>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    public static CompactResult Run(ArchiveLocation place, Effort? effort, TimeSpan wait, IProgress<OperationProgress> progress,
        CancellationToken cancellation, IFileSystem? fileSystem = null)
    {
        var clock = Stopwatch.StartNew();
        var path = place.Path;
        fileSystem ??= LocalFileSystem.Instance;
        // A link to an archive stays a link: what it points to is rewritten.
        var full = Path.GetFullPath(path);
        if (File.Exists(full) && File.ResolveLinkTarget(full, returnFinalTarget: true) is { } target)
            full = target.FullName;
        // What is not known would be left out.
        using var old = ArchiveWriter.Open(new ArchiveLocation(full, place.Bases), create: false, Effort.Balanced, wait, fileSystem,
            cancellation: cancellation);
        var folder = Path.GetDirectoryName(full)!;
        var prefix = $".{Path.GetFileName(full)}.compact-";
        // The lock is ours, so what another run left behind belongs to nobody.
        foreach (var left in Directory.Exists(folder) ? Directory.EnumerateFiles(folder, prefix + "*") : [])
            fileSystem.Delete(left);
        var scratch = Path.Combine(folder, prefix + Guid.NewGuid().ToString("N"));
        var before = old.Base.FileLength;
        if (old.Base.LostImages.Count > 0)
        {
            throw VembarException.Damaged($"'{path}' is not rewritten, for its images "
                + $"{string.Join(", ", old.Base.LostImages.Select(i => i.Number))} would be lost: their records are damaged",
                Advice.Of("heal"));
        }
        try
        {
            using (var fresh = ArchiveWriter.CreateFor(old.Base, scratch, effort ?? Effort.Balanced, fileSystem))
            {
                var needed = new NeededChunks(old.Base, fresh);
                foreach (var image in old.Base.Images)
                    needed.Want(new ImageTree(old.Base, image.Root, $"{path}#{image.Number}"), image.Root);
                needed.Copy(recompress: effort is not null, progress, cancellation);
                cancellation.ThrowIfCancellationRequested();
                fresh.CommitAll(old.Base, "compact");
            }
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

    private static void Remove(string scratch, IFileSystem fileSystem)
    {
        if (Native.Posix.Exists(scratch))
            fileSystem.Delete(scratch);
    }
}

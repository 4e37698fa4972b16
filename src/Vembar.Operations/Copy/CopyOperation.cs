using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Copy;

/// <summary>Copies an image into another archive without unpacking it.</summary>
public static class CopyOperation
{
    /// <summary>Copies what the other archive lacks. Blocks of which everything is needed go over as they are.</summary>
    /// <param name="from">The image.</param>
    /// <param name="to">The archive; made when there is none.</param>
    /// <param name="name">The name there; null for the same.</param>
    /// <param name="wait">How long to wait for another writer.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the archive is as it was.</param>
    /// <param name="fileSystem">The file system that is written to; null for the real one.</param>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    public static CopyResult Run(
        ImageReference from, ArchiveLocation to, string? name, TimeSpan wait, IProgress<OperationProgress> progress,
        CancellationToken cancellation, IFileSystem? fileSystem = null)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var source = Checks.Collect(problems, () => ArchiveReader.Open(from.Archive));
        var image = source is null ? null : Checks.Collect(problems, () => source.Find(from.Which));
        Checks.Collect(problems, () =>
        {
            if (name is not null)
                Checks.ImageName(name);
            Checks.CanAddTo(to, name ?? image?.Name);
            return "";
        });
        Checks.Throw(problems);
        using var writer = ArchiveWriter.Open(to, create: true, Effort.Balanced, wait, fileSystem, cancellation: cancellation);
        Checks.NameIsFree(writer.Base, name ?? image!.Name);

        var tree = new ImageTree(source!, image!.Root, from.ToString());
        var needed = new NeededChunks(source!, writer);
        needed.Want(tree, image.Root);
        var (done, fresh, whole) = needed.Copy(recompress: false, progress, cancellation);
        var now = DateTime.UtcNow;
        var record = image with
        {
            Name = name ?? image.Name,
            Origin = new ImageOrigin { Kind = "image", From = $"{source!.Header.Id:D}#{image.Number}", Program = Checks.ProgramVersion },
            History = [.. image.History, new HistoryEntry
            {
                Time = now,
                Action = "copy",
                Details = [$"from {Path.GetFullPath(from.Archive.Path)}#{image.Number}"],
            }],
        };
        record = writer.CommitImage(record, null, $"copy {writer.Base.Catalogue.NextNumber} {record.Name}");
        return new CopyResult(to.Path, record,
            new StoreStats(image.Files, 0, image.Bytes, done, fresh, writer.BytesStored, clock.Elapsed.TotalSeconds), whole);
    }
}

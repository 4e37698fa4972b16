using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Copy;

/// <summary>Copies an image into another archive without unpacking it.</summary>
public sealed class CopyHandler(OperationHost host) : IOperationHandler<CopyRequest, CopyResult>
{
    /// <summary>Copies what the other archive lacks. Blocks of which everything is needed go over as they are.</summary>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    public async Task<CopyResult> HandleAsync(CopyRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var (from, to, name) = (request.Image, request.To, request.Name);
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
        using var writer = await ArchiveWriter.OpenAsync(to, host.WriterOptions(request.Wait) with { MayCreate = true }, cancellation)
            .ConfigureAwait(false);
        Checks.NameIsFree(writer.Base, name ?? image!.Name);

        var tree = new ImageTree(source!, image!.Root, from.ToString());
        var needed = new NeededChunks(source!, writer);
        needed.Want(tree, image.Root);
        var (done, fresh, whole) = await needed.CopyAsync(recompress: false, progress, cancellation).ConfigureAwait(false);
        var record = image with
        {
            Name = name ?? image.Name,
            Origin = new ImageOrigin { Kind = "image", From = $"{source!.Header.Id:D}#{image.Number}", Program = Checks.ProgramVersion },
            History = [.. image.History, new HistoryEntry
            {
                Time = host.Now,
                Action = "copy",
                Details = [$"from {Path.GetFullPath(from.Archive.Path)}#{image.Number}"],
            }],
        };
        record = writer.CommitImage(record, null, $"copy {writer.Base.Catalogue.NextNumber} {record.Name}");
        return new CopyResult(to.Path, record,
            new StoreStats(image.Files, 0, image.Bytes, done, fresh, writer.BytesStored, clock.Elapsed.TotalSeconds), whole);
    }
}

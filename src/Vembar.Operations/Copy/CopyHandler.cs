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
        using var source = Checks.Collect(problems, () => ArchiveReader.Open(from.Archive, host.Files));
        var image = source is null ? null : Checks.Collect(problems, () => source.Find(from.Which, host.Clock));
        Checks.Collect(problems, () =>
        {
            if (name is not null)
                Checks.ImageName(name);
            Checks.VersionText(request.Version ?? "");
            Checks.CanAddTo(host, to, name ?? image?.Name, request.Replace is null ? request.Version : null);
            return "";
        });
        Checks.Throw(problems);
        using var writer = await ArchiveWriter.OpenAsync(to, host.WriterOptions(request.Wait) with
        {
            MayCreate = true,
            BasedOn = request.BasedOn is { } other ? [Checks.AsBase(other, host)] : [],
        }, cancellation)
            .ConfigureAwait(false);
        var notes = new List<string>();
        var version = request.Replace is null ? VersionIn(writer.Base, image!, request, notes) : image!.Version;

        var tree = new ImageTree(source!, image!.Root, from.ToString());
        var needed = new NeededChunks(source!, writer);
        // Of an archive far away, all folders of the image will be looked at.
        using var fetching = source!.FetchTrees();
        needed.Want(tree, image.Root);
        var (done, fresh, whole) = await needed.CopyAsync(recompress: false, progress, cancellation).ConfigureAwait(false);
        var isSame = version == image.Version && (name is null || name.Equals(image.Name, StringComparison.OrdinalIgnoreCase));
        var record = image with
        {
            Name = name ?? image.Name,
            Version = version,
            // Marks and channels are of this very version.
            Locked = image.Locked && isSame,
            Held = image.Held && isSame,
            Retires = isSame ? image.Retires : null,
            Signatures = isSame ? image.Signatures : null,
            Channels = isSame ? image.Channels : null,
            Origin = new ImageOrigin { Kind = "image", From = $"{source!.Header.Id:D}#{image.Number}", Program = Checks.ProgramVersion },
            History = [.. image.History, new HistoryEntry
            {
                Time = host.Now,
                Action = "copy",
                Details = [$"from {from.Archive.FullName}#{image.Number}"],
            }],
        };
        record = writer.CommitImage(record, request.Replace,
            Checks.Change("copy", request.Replace ?? writer.Base.Catalogue.NextNumber, record));
        return new CopyResult(to.Path, record,
            new StoreStats(image.Files, 0, image.Bytes, done, fresh, writer.BytesStored, clock.Elapsed.TotalSeconds), whole)
        {
            Notes = notes,
        };
    }

    // The image keeps its version, unless the other archive has that one.
    private string VersionIn(ArchiveReader archive, ImageRecord image, CopyRequest request, List<string> notes)
    {
        var name = request.Name ?? image.Name;
        var isFree = image.Version.Length > 0
            && ImageCatalogue.Of(archive).VersionsOf(name).All(v => !v.Version.Equals(image.Version, StringComparison.OrdinalIgnoreCase));
        return Checks.VersionFor(archive, name, request.Version ?? (isFree ? image.Version : null), host, notes);
    }
}

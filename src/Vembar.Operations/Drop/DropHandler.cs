using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Writing;

namespace Vembar.Operations.Drop;

/// <summary>Takes an image off an archive's list.</summary>
public sealed class DropHandler(OperationHost host) : IOperationHandler<DropRequest, DropResult>
{
    /// <summary>Takes the image off the list; its content stays in the file.</summary>
    /// <exception cref="VembarException">There is no such image, or the archive cannot be written.</exception>
    public async Task<DropResult> HandleAsync(DropRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var reference = request.Image;
        using var writer = await ArchiveWriter.OpenAsync(reference.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Find(reference.Which);
        writer.CommitDrop(image.Number, $"drop {image.Number} {image.Name}");
        return new DropResult(reference.Archive.Path, image, writer.Base.Images.Count - 1);
    }
}

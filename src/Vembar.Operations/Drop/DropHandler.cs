using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Drop;

/// <summary>Takes an image off an archive's list.</summary>
public sealed class DropHandler(OperationHost host) : IOperationHandler<DropRequest, DropResult>
{
    /// <summary>Takes the image off the list; its content stays in the file.</summary>
    /// <exception cref="VembarException">There is no such image, it is locked or a channel points at it, or the archive cannot be
    /// written.</exception>
    public async Task<DropResult> HandleAsync(DropRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var reference = request.Image;
        ImageRecord asked;
        // Nobody is kept from writing while somebody thinks.
        using (var reader = ArchiveReader.Open(reference.Archive, host.Files))
        {
            asked = reader.Find(reference.Which, host.Clock);
            EnsureFree(reader, asked);
        }
        if (request.MayDrop is { } mayDrop && !mayDrop(asked))
            throw VembarException.Input("not-confirmed", $"image {asked.Number} {asked.Title} was not dropped: that was not confirmed",
                Advice.Of("confirm-drop"));
        using var writer = await ArchiveWriter.OpenAsync(reference.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Images.FirstOrDefault(i => i.Number == asked.Number && i.Root == asked.Root)
            ?? throw VembarException.Input("image-changed",
                $"image {asked.Number} {asked.Title} of '{reference.Archive}' was dropped or changed by somebody else meanwhile",
                "Look again, and drop it if that is still meant.");
        EnsureFree(writer.Base, image);
        writer.CommitDrop(image.Number, Checks.Change("drop", image.Number, image));
        return new DropResult(reference.Archive.Path, image, writer.Base.Images.Count - 1);
    }

    private static void EnsureFree(ArchiveReader archive, ImageRecord image)
    {
        var reference = $"{archive.Path}#{image.Number}";
        if (image.Locked)
            throw VembarException.Input("image-locked", $"image {image.Number} {image.Title} of '{archive.Path}' is locked",
                Advice.Of("image-locked", ("image", reference)));
        if (image.Channels is not { Count: > 0 } channels)
            return;
        var which = channels.Count == 1 ? $"the channel '{channels[0]}' points" : $"the channels {string.Join(", ", channels)} point";
        throw VembarException.Input("image-in-channel", $"{which} at image {image.Number} {image.Title} of '{archive.Path}'",
            Advice.Of("image-in-channel", ("image", reference), ("channel", channels[0])));
    }
}

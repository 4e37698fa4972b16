using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.History;

/// <summary>Changes name, version, edition, remark and labels of an image.</summary>
public sealed class RetitleHandler(OperationHost host) : IOperationHandler<RetitleRequest, ImageRecord>
{
    /// <summary>Makes the change.</summary>
    /// <exception cref="VembarException">There is no such image, the name is taken, or the archive cannot be written.</exception>
    public async Task<ImageRecord> HandleAsync(RetitleRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        if (request is { Name: null, Version: null, Edition: null, Note: null, Labels.Count: 0 })
            throw new VembarException(ErrorKind.Usage, "nothing-to-do", "nothing was said to change",
                Advice.Of("nothing-to-retitle"));
        if (request.Name is not null)
            Checks.ImageName(request.Name);
        Checks.VersionText(request.Version ?? "");
        using var writer = await ArchiveWriter.OpenAsync(request.Image.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Find(request.Image.Which, host.Clock);
        if (request.Name is not null || request.Version is not null)
            Checks.TitleIsFree(writer.Base, request.Name ?? image.Name, request.Version ?? image.Version, exceptNumber: image.Number);
        EnsureChannelsAreFree(writer.Base, request.Name ?? image.Name, image);
        var title = new ImageTitle { Version = request.Version, Edition = request.Edition, Note = request.Note, Labels = request.Labels };
        var record = title.In(image) with { Name = request.Name ?? image.Name };
        return writer.CommitImage(record, image.Number, Checks.Change("retitle", image.Number, record));
    }

    // An image takes its channels along to another name.
    private static void EnsureChannelsAreFree(ArchiveReader archive, string name, ImageRecord image)
    {
        foreach (var channel in image.Channels ?? [])
        {
            if (ImageCatalogue.Of(archive).VersionsOf(name).FirstOrDefault(v => v.Number != image.Number
                && ((v.Channels ?? []).Append(v.Version).Contains(channel, StringComparer.OrdinalIgnoreCase))) is { } taken)
                throw VembarException.Input("channel-taken",
                    $"image {image.Number} is in the channel '{channel}', and \"{taken.Name}\" has one of its own, or a version called so",
                    Advice.Of("channel-out", ("image", $"{archive.Path}#{image.Number}"), ("channel", channel)));
        }
    }
}

using Vembar.Common;
using Vembar.Images.Records;
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
        using var writer = await ArchiveWriter.OpenAsync(request.Image.Archive, host.WriterOptions(request.Wait), cancellation)
            .ConfigureAwait(false);
        var image = writer.Base.Find(request.Image.Which);
        if (request.Name is not null)
            Checks.NameIsFree(writer.Base, request.Name, exceptNumber: image.Number);
        var title = new ImageTitle { Version = request.Version, Edition = request.Edition, Note = request.Note, Labels = request.Labels };
        return writer.CommitImage(title.In(image) with
        {
            Name = request.Name ?? image.Name,
        }, image.Number, $"retitle {image.Number} {request.Name ?? image.Name}");
    }
}

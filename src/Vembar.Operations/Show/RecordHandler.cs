using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Reading;

namespace Vembar.Operations.Show;

/// <summary>Reads an image's record alone.</summary>
public sealed class RecordHandler(OperationHost host) : IOperationHandler<ImageReference, ImageRecord>
{
    /// <summary>Reads the record.</summary>
    /// <exception cref="VembarException">There is no such image.</exception>
    public Task<ImageRecord> HandleAsync(ImageReference request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        return Task.FromResult(archive.Find(request.Which, host.Clock));
    }
}

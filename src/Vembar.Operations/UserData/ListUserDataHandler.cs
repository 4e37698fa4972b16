using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.UserData;

/// <summary>Tells which user files an archive holds.</summary>
public sealed class ListUserDataHandler(OperationHost host) : IOperationHandler<ArchiveLocation, IReadOnlyList<ImageRecord>>
{
    /// <summary>The images of user files, by machine and then from the oldest.</summary>
    /// <exception cref="VembarException">The archive cannot be read.</exception>
    public Task<IReadOnlyList<ImageRecord>> HandleAsync(ArchiveLocation request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request, host.Files);
        return Task.FromResult<IReadOnlyList<ImageRecord>>([.. archive.Images.Where(i => i.UserFiles is not null)
            .OrderBy(i => i.Name, StringComparer.OrdinalIgnoreCase).ThenBy(i => i.Number)]);
    }
}

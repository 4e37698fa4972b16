using System.Collections.Concurrent;
using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Verify;

/// <summary>Reads all of an archive and checks every byte.</summary>
public sealed class VerifyHandler(OperationHost host) : IOperationHandler<VerifyRequest, VerifyResult>
{
    /// <summary>Checks every block, every chunk, the places between them, and every image's tree.</summary>
    /// <exception cref="VembarException">The archive cannot be opened at all.</exception>
    public async Task<VerifyResult> HandleAsync(VerifyRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        using var archive = ArchiveReader.OpenToMend(request.Archive, new WholeReading(host.Files));
        var result = await ArchiveCheck.RunAsync(archive, [], new ConcurrentDictionary<ChunkId, byte>(), host.Workers, progress,
            cancellation).ConfigureAwait(false);
        // From a server, opening it takes a part of the time.
        return result with
        {
            Seconds = clock.Elapsed.TotalSeconds,
            Signatures = request.SignedBy is { } trust ? [.. archive.Images.Select(trust.Look)] : null,
        };
    }
}

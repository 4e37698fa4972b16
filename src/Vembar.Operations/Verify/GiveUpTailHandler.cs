using Vembar.Common;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>Gives up a newer state that is damaged, behind the last one that is whole, so that the archive can be changed again.</summary>
public sealed class GiveUpTailHandler(OperationHost host) : IOperationHandler<GiveUpTailRequest, VerifyResult>
{
    /// <summary>Gives it up, then checks. When the check is ended, what was given up is gone.</summary>
    /// <exception cref="VembarException">There is nothing to give up, or the archive cannot be written.</exception>
    public async Task<VerifyResult> HandleAsync(GiveUpTailRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var path = request.Archive;
        using (var writer = await ArchiveWriter.OpenToMendAsync(path, WriterPurpose.GiveUpTail, new Mending(),
            host.WriterOptions(request.Wait), cancellation).ConfigureAwait(false))
        {
            if (writer.Base.UncommittedTail == 0)
                throw VembarException.Input("nothing-to-give-up", $"'{path}' has nothing behind its last whole state",
                    Advice.Of("nothing-to-give-up"));
            writer.GiveUpTail();
        }
        return await new VerifyHandler(host).HandleAsync(new VerifyRequest(path), progress, cancellation).ConfigureAwait(false);
    }
}

using System.Collections.Concurrent;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>Heals an archive from others that hold the same.</summary>
public sealed class RepairHandler(OperationHost host) : IOperationHandler<RepairRequest, VerifyResult>
{
    /// <summary>Checks, and stores good content again for what is damaged, from archives that hold the same. When it is ended, records of
    /// states and indexes may have been put back in their places by then.</summary>
    /// <exception cref="VembarException">An archive cannot be opened, or this one not be written.</exception>
    public async Task<VerifyResult> HandleAsync(RepairRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (path, from, wait) = request;
        var options = host.WriterOptions(wait);
        Task<VerifyResult> VerifyAsync() => new VerifyHandler(host).HandleAsync(new VerifyRequest(path), progress, cancellation);
        var others = new List<ArchiveReader>();
        try
        {
            foreach (var other in from)
                others.Add(ArchiveReader.OpenToMend(new ArchiveLocation(other, path.Bases), host.Files));
            var restored = await StateHealer.HealAsync(path, others, options, cancellation).ConfigureAwait(false);
            var bad = new ConcurrentDictionary<ChunkId, byte>();
            var mending = new Mending(others);
            VerifyResult before;
            using (var writer = await ArchiveWriter.OpenToMendAsync(path, WriterPurpose.Mend, mending, options, cancellation)
                .ConfigureAwait(false))
            {
                before = await ArchiveCheck.RunAsync(writer.Base, others, bad, host.Workers, progress, cancellation)
                    .ConfigureAwait(false);
                if (!writer.Base.IsIndexRebuilt)
                {
                    var fillings = new List<(long Start, long End)>();
                    ArchiveCheck.CheckCover(writer.Base, fillings);
                    foreach (var (start, end) in fillings)
                        restored.Add(StateHealer.Fill(writer, start, end));
                }
                var healed = mending.Found.Count;
                foreach (var (id, bytes) in mending.Found)
                    writer.AddAgain(BlockKind.Record, id, bytes.Span);
                foreach (var id in bad.Keys.Order().Where(id => !mending.Found.ContainsKey(id)))
                {
                    if (ArchiveCheck.Good(writer.Base, others, id) is not { } good)
                        continue;
                    writer.AddAgain(good.Kind, id, good.Bytes.Span);
                    healed++;
                }
                // Without a list of images, a new state would list none. A damaged state behind this one would be lost.
                if (writer.Base.IsCatalogueLost || writer.Base.IsNewerStateDamaged || (healed == 0 && !writer.Base.IsIndexRebuilt))
                    return restored.Count > 0 ? await VerifyAsync().ConfigureAwait(false) with { Repaired = restored } : before;
                cancellation.ThrowIfCancellationRequested();
                writer.CommitRepair($"repair, {healed} pieces");
            }
            var after = await VerifyAsync().ConfigureAwait(false);
            return after with { Repaired = [.. restored, .. before.Damage.Except(after.Damage)], Seconds = before.Seconds + after.Seconds };
        }
        finally
        {
            foreach (var other in others)
                other.Dispose();
        }
    }
}

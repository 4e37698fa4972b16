using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Index;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>
/// Puts records of states and indexes of an archive back in their places from copies of it: what both have in common was written once and
/// never changed, so the copy has the very bytes.
/// </summary>
internal static class StateHealer
{
    private const int Step = 1 << 20;

    /// <summary>Heals what can be.</summary>
    /// <param name="place">The archive.</param>
    /// <param name="others">Other archives; those that are no copies are passed over.</param>
    /// <param name="options">How the archive is opened.</param>
    /// <param name="cancellation">Ends the waiting.</param>
    /// <returns>What was healed.</returns>
    /// <exception cref="VembarException">The archive cannot be opened or written.</exception>
    public static async Task<List<Damage>> HealAsync(ArchiveLocation place, IReadOnlyList<ArchiveReader> others, WriterOptions options,
        CancellationToken cancellation)
    {
        var healed = new List<Damage>();
        using var writer = await ArchiveWriter.OpenToMendAsync(place, WriterPurpose.Mend, new Mending(), options, cancellation)
            .ConfigureAwait(false);
        var archive = writer.Base;
        var own = archive.States().Where(s => s.Commit is not null).Select(s => s.Commit!).ToList();
        foreach (var copy in others.Where(o => o.Header.Id == archive.Header.Id && o.Header.Major == archive.Header.Major))
        {
            var theirs = copy.States().Where(s => s.Commit is not null).Select(s => s.Commit!).ToList();
            // The newest state that both have. All before it is the same in both; what comes after it only where its index is.
            var common = theirs.FindIndex(t => own.Exists(o => o == t));
            if (common < 0)
                continue;
            for (var i = theirs.Count - 1; i >= 0; i--)
            {
                var commit = theirs[i];
                if (i < common && !IndexSegment.IsWhole(archive.File, commit.Index))
                    break;
                try
                {
                    Heal(writer, copy, commit, healed);
                }
                catch (Exception failure) when (failure is not VembarException
                    && VembarException.From(failure, "write the archive", place.Path) is { } error)
                {
                    throw error;
                }
            }
        }
        return healed;
    }

    /// <summary>Makes zeros again of bytes between structures, which nothing else can be.</summary>
    public static Damage Fill(ArchiveWriter writer, long start, long end)
    {
        writer.EnsureInPlace();
        writer.File.Write(new byte[end - start], start);
        writer.File.Sync();
        return new Damage(0, "", $"bytes {start} to {end}, which fill up");
    }

    private static void Heal(ArchiveWriter writer, ArchiveReader copy, CommitRecord commit, List<Damage> healed)
    {
        var file = writer.File;
        if (!IndexSegment.IsWhole(file, commit.Index) && IndexSegment.IsWhole(copy.File, commit.Index))
        {
            writer.EnsureInPlace();
            var buffer = new byte[Step];
            for (var at = 0L; at < commit.Index.Length; at += Step)
            {
                var part = buffer.AsSpan(0, (int)Math.Min(Step, commit.Index.Length - at));
                copy.File.Read(part, commit.Index.Offset + at);
                file.Write(part, commit.Index.Offset + at);
            }
            file.Sync();
            healed.Add(new Damage(0, "", $"the index of state {commit.Sequence} at byte {commit.Index.Offset}"));
        }
        foreach (var at in ((long[])[commit.First, commit.Second]).Distinct()
            .Where(at => CommitRecord.TryRead(file, writer.Base.Header, at) != commit))
        {
            writer.EnsureInPlace();
            file.Write(commit.Encode(at), at);
            file.Sync();
            healed.Add(new Damage(0, "", $"the record of state {commit.Sequence} at byte {at}"));
        }
    }
}

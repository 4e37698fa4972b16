using System.Collections.Concurrent;
using Vembar.Common.Tasks;

namespace Vembar.Volumes.Targets;

/// <summary>Reads back what was written and compares.</summary>
internal static class ReadBack
{
    /// <summary>Compares entries on all cores.</summary>
    /// <param name="written">The entries.</param>
    /// <param name="workers">How many at once.</param>
    /// <param name="difference">Says how what is there differs from an entry; null when it does not.</param>
    /// <param name="report">Told bytes done, all bytes, and the entry.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What differs, a line each.</returns>
    public static async Task<IReadOnlyList<string>> CompareAsync(List<PlannedEntry> written, int workers,
        Func<PlannedEntry, string?> difference, Action<long, long, PlannedEntry> report, CancellationToken cancellation)
    {
        var differences = new ConcurrentBag<string>();
        long done = 0, total = written.Sum(i => i.Entry.Length);
        await WorkStealingRunner.EachAsync(written.Count, workers, i =>
        {
            if (difference(written[i]) is { } found)
                differences.Add($"{written[i].Path}: {found}");
            report(Interlocked.Add(ref done, written[i].Entry.Length), total, written[i]);
        }, cancellation).ConfigureAwait(false);
        return [.. differences.Order(StringComparer.Ordinal)];
    }
}

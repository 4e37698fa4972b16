using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Store.Hashing;
using Vembar.Volumes.Sources;

namespace Vembar.Volumes.Targets;

/// <summary>Compares what is on an NTFS volume with what was to be written.</summary>
/// <param name="plan">What was to be written.</param>
/// <param name="image">The image that it is of.</param>
/// <param name="source">The volume, opened anew for reading.</param>
internal sealed class NtfsReadBack(DeployPlan plan, ImageTree image, NtfsSource source)
{
    /// <summary>Compares all that was written.</summary>
    /// <param name="workers">How much at once.</param>
    /// <param name="report">Told bytes done, all bytes, and the file.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What differs, a line each.</returns>
    public async Task<IReadOnlyList<string>> CompareAsync(int workers, Action<long, long, string> report, CancellationToken cancellation)
    {
        var tree = await source.WalkAsync(new WalkOptions { Exclusions = new Exclusions([], keepAll: true), Workers = workers },
            cancellation).ConfigureAwait(false);
        // To the letter: names may differ in case alone.
        var found = new Dictionary<string, SourceNode>(StringComparer.Ordinal);
        void Collect(SourceNode node)
        {
            found[node.Path.ToString()] = node;
            foreach (var child in node.Children ?? [])
                Collect(child);
        }
        Collect(tree.Root);
        return await ReadBack.CompareAsync([.. plan.Folders.Concat(plan.FilesAndLinks).Where(i => i.IsMade)], workers,
            item => found.TryGetValue(item.Path.ToString(), out var node) ? Difference(item, node) : "is not there",
            (done, total, item) => report(done, total, item.Path.ToString()), cancellation).ConfigureAwait(false);
    }

    private string? Difference(PlannedEntry item, SourceNode node)
    {
        // A further name of a file has the metadata of the first.
        var expected = (plan.FirstNameOf(item) ?? item).Entry;
        var entry = node.Entry;
        const WindowsAttributes Compared =
            WindowsAttributes.ReadOnly | WindowsAttributes.Hidden | WindowsAttributes.System | WindowsAttributes.Archive
        | WindowsAttributes.NotIndexed | WindowsAttributes.Compressed | WindowsAttributes.Reparse;
        if (node.Kind != expected.Kind || node.Length != expected.Length)
            return $"is a {node.Kind} of {node.Length} bytes, not a {expected.Kind} of {expected.Length}";
        if (expected.Modified is { } time && entry.Modified?.Ticks != time.Ticks)
            return "has another time";
        if (expected.Attributes is { } attributes && (entry.Attributes & Compared) != (attributes & Compared))
            return $"has other attributes ({entry.Attributes & Compared}, not {attributes & Compared})";
        if (!expected.Security.IsNone && (entry.PendingSecurity is not { } security || Blake3.Hash(security) != expected.Security))
            return "has another security descriptor";
        if (expected.Reparse is { } reparse && entry.Reparse?.AsSpan().SequenceEqual(reparse) != true)
            return "has other reparse data";
        if (!entry.PendingStreams.Select(s => s.Name).Order(StringComparer.Ordinal)
            .SequenceEqual(expected.Streams.Select(s => s.Name).Order(StringComparer.Ordinal)))
            return "has other streams";
        if (node.Kind != EntryKind.File)
            return null;
        using var file = source.Open(node);
        return ContentComparison.Matches(file, expected.New is null ? image.Parts(expected.Content!, item.Path)
            : NewContentParts.Of(expected.New)) ? null : "has other content";
    }
}

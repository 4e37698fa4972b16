using Vembar.Common;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.List;

/// <summary>Which images are listed, and in which order.</summary>
internal sealed record ListSelection
{
    /// <summary>Whether those are listed too that are held back or retired.</summary>
    public bool All { get; init; }

    /// <summary>What they have to meet.</summary>
    public IReadOnlyList<ListFilter> Filters { get; init; } = [];

    /// <summary>What they are sorted by; null to group the versions of a name, newest first.</summary>
    public ListColumn? Sort { get; init; }

    /// <summary>Whether they are sorted the other way round.</summary>
    public bool IsDescending { get; init; }

    /// <summary>The images to list.</summary>
    /// <param name="images">All images of an archive.</param>
    /// <param name="hidden">How many are not listed because they are held back or retired.</param>
    public IReadOnlyList<ImageRecord> Of(IReadOnlyList<ImageRecord> images, out int hidden)
    {
        var today = DateOnly.FromDateTime(DateTime.Now);
        var fitting = images.Where(i => Filters.All(f => f.Fits(i, today))).ToList();
        var shown = All || Filters.Any(f => f.WantsAll) ? fitting
            // What a channel points at is in use, whatever is said of it.
            : [.. fitting.Where(i => i.IsOffered(today) || i.Channels is not null)];
        hidden = fitting.Count - shown.Count;
        if (Sort is null)
            return [.. shown.GroupBy(i => i.Name, StringComparer.OrdinalIgnoreCase).OrderBy(g => g.Min(i => i.Number))
                .SelectMany(g => VersionOrder.OldestFirst(g).Reverse())];
        if (Sort.Key == "version")
        {
            var order = VersionOrder.OldestFirst(shown);
            return IsDescending ? [.. order.Reverse()] : order;
        }
        var sorted = Comparer<IComparable>.Create((a, b) => a is string x && b is string y
            ? string.Compare(x, y, StringComparison.OrdinalIgnoreCase) : a.CompareTo(b));
        return IsDescending ? [.. shown.OrderByDescending(Sort.Sort, sorted).ThenBy(i => i.Number)]
            : [.. shown.OrderBy(Sort.Sort, sorted).ThenBy(i => i.Number)];
    }

    /// <summary>A column by its key.</summary>
    /// <exception cref="VembarException">There is none.</exception>
    public static ListColumn Column(string key) =>
        ListColumn.All.FirstOrDefault(c => c.Key.Equals(key.Trim(), StringComparison.OrdinalIgnoreCase))
        ?? throw new VembarException(ErrorKind.Usage, "bad-column", $"there is no column '{key.Trim()}'",
            $"There are {string.Join(", ", ListColumn.All.Select(c => c.Key))}.");
}

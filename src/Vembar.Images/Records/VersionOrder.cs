namespace Vembar.Images.Records;

/// <summary>The order of the versions of a name.</summary>
public static class VersionOrder
{
    /// <summary>
    /// The versions, oldest first: by their numbers, and where these are the same by when they were made. One without numbers comes
    /// behind all that were made before it, so that it is the newest as long as nothing was made since.
    /// </summary>
    public static IReadOnlyList<ImageRecord> OldestFirst(IEnumerable<ImageRecord> versions)
    {
        var all = versions.Select(v => (Image: v, Numbers: VersionNumbers.Of(v.Version))).ToList();
        var order = all.Where(v => v.Numbers is not null).OrderBy(v => v.Numbers).ThenBy(v => v.Image.Created)
            .ThenBy(v => v.Image.Number).Select(v => v.Image).ToList();
        var others = all.Where(v => v.Numbers is null).Select(v => v.Image).OrderBy(v => v.Created).ThenBy(v => v.Number)
            .ToLookup(v => order.FindLastIndex(n => n.Created <= v.Created));
        return [.. others[-1], .. order.SelectMany((version, at) => (IEnumerable<ImageRecord>)[version, .. others[at]])];
    }
}

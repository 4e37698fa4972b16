namespace Vembar.Images.Records;

/// <summary>The numbers that a version begins with: 2026, 10 of "2026.10", of "v2026-10" and of "2026.10-desk".</summary>
internal sealed class VersionNumbers : IComparable<VersionNumbers>
{
    // Digits without the zeros in front, so that numbers of any length compare.
    private readonly List<string> _numbers = [];

    private VersionNumbers()
    {
    }

    /// <summary>The numbers of a version; null when it begins with none.</summary>
    public static VersionNumbers? Of(string version)
    {
        var text = version.AsSpan();
        if (text.Length > 1 && text[0] is 'v' or 'V')
            text = text[1..];
        var found = new VersionNumbers();
        while (true)
        {
            var length = text.IndexOfAnyExceptInRange('0', '9') is var end && end < 0 ? text.Length : end;
            if (length == 0)
                break;
            found._numbers.Add(text[..length].TrimStart('0').ToString());
            text = text[length..];
            if (text.Length < 2 || text[0] is not ('.' or '-' or '_') || !char.IsAsciiDigit(text[1]))
                break;
            text = text[1..];
        }
        return found._numbers.Count > 0 ? found : null;
    }

    /// <inheritdoc/>
    public int CompareTo(VersionNumbers? other)
    {
        if (other is null)
            return 1;
        foreach (var (mine, theirs) in _numbers.Zip(other._numbers))
        {
            var order = mine.Length != theirs.Length ? mine.Length - theirs.Length : string.CompareOrdinal(mine, theirs);
            if (order != 0)
                return order;
        }
        return _numbers.Count - other._numbers.Count;
    }
}

namespace Vembar.Images.Nodes;

/// <summary>What a tree may hold, for those who write one and those who read one: what is written can be read.</summary>
public static class TreeLimits
{
    /// <summary>Folders below each other, the root not counted. No path of Windows has so many, nor one that Linux takes in a single
    /// call.</summary>
    public const int MaxDepth = 2048;

    /// <summary>Bytes of a folder's page from which on a further one is begun.</summary>
    public const int PageLength = 4 << 20;

    /// <summary>Bytes of a single entry with all that is known of it but its content.</summary>
    public const int LongestEntry = 32 << 20;

    /// <summary>Why a name cannot be that of an entry; null when it can.</summary>
    /// <param name="name">The name; the root alone has an empty one.</param>
    public static string? NameProblem(string name) => name.Length == 0 ? "it has no name"
        : name is "." or ".." ? $"'{name}' is no name of its own"
        : name.AsSpan().ContainsAny('/', '\0') ? "its name holds '/' or a NUL" : null;

    /// <summary>Why an entry cannot be stored; null when it can.</summary>
    public static string? EntryProblem(TreeEntry entry) => LengthOf(entry) > LongestEntry
        ? $"its extended attributes and streams take more than {LongestEntry >> 20} MiB" : null;

    /// <summary>At most how many bytes an entry takes in a page.</summary>
    public static long LengthOf(TreeEntry entry)
    {
        const int Fixed = 160, OfValue = 24, OfContent = 96, OfPart = 44, OfLetter = 3;
        var length = Fixed + (long)OfLetter * entry.Name.Length + (entry.Content is { IsOneChunk: false, Parts: { } parts }
            ? OfPart * Math.Min(parts.Count, TreeFormat.InlineParts) : 0);
        if (entry.IsCommon)
            return length;
        length += OfLetter * (entry.LinkTarget?.Length ?? 0) + (entry.Reparse?.Length ?? 0) + OfLetter * (entry.ShortName?.Length
            ?? 0) + (entry.ObjectId?.Length ?? 0);
        foreach (var value in entry.ExtendedAttributes.Concat(entry.PosixAttributes))
            length += OfValue + OfLetter * (long)value.Name.Length + value.Value.Length;
        foreach (var stream in entry.Streams)
            length += OfContent + OfLetter * (long)stream.Name.Length + OfPart * Math.Min(stream.Content.Parts?.Count ?? 0,
                TreeFormat.InlineParts);
        return length;
    }
}

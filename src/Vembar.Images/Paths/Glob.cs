namespace Vembar.Images.Paths;

/// <summary>
/// A pattern for paths in an image: '*' for any part of a name, '?' for one character, '**' for any number of folders.
/// It begins at the root; case does not matter.
/// </summary>
public sealed class Glob
{
    private readonly string[] _parts;

    private Glob(string text, string[] parts)
    {
        Text = text;
        _parts = parts;
    }

    /// <summary>The pattern as it was given.</summary>
    public string Text { get; }

    /// <summary>Whether a text holds any of the pattern's signs.</summary>
    public static bool IsPattern(string text) => text.AsSpan().IndexOfAny('*', '?') >= 0;

    /// <summary>Reads a pattern.</summary>
    public static Glob Parse(string text) => new(text, [.. WindowsPath.Parse(text).Parts]);

    /// <summary>Reads a pattern for a single name, in which '/' and '\' have no meaning.</summary>
    public static Glob ParseName(string text) => new(text, [text]);

    /// <summary>Whether a path matches as a whole.</summary>
    public bool Matches(IReadOnlyList<string> path) => Matches(0, path, 0);

    /// <summary>The parts in front of the first pattern sign: nothing outside of that folder can match.</summary>
    public WindowsPath FixedPart() => _parts.TakeWhile(p => !IsPattern(p)).Aggregate(WindowsPath.Root, (path, part) => path.Child(part));

    /// <summary>Whether something below a folder can match.</summary>
    public bool MayMatchBelow(IReadOnlyList<string> folder)
    {
        for (var at = 0; at < folder.Count; at++)
        {
            if (at < _parts.Length && _parts[at] == "**")
                return true;
            // A part is left for what is in the folder.
            if (at >= _parts.Length - 1 || !NameMatches(_parts[at], folder[at]))
                return false;
        }
        return true;
    }

    private bool Matches(int part, IReadOnlyList<string> path, int at)
    {
        for (; part < _parts.Length; part++, at++)
        {
            if (_parts[part] == "**")
            {
                // At the end it stands for everything below, so at least one name must be left.
                if (part == _parts.Length - 1)
                    return at < path.Count;
                for (var next = at; next <= path.Count; next++)
                {
                    if (Matches(part + 1, path, next))
                        return true;
                }
                return false;
            }
            if (at >= path.Count || !NameMatches(_parts[part], path[at]))
                return false;
        }
        return at == path.Count;
    }

    // Greedy with one step back: time is bounded by the product of both lengths.
    private static bool NameMatches(string pattern, string name)
    {
        int p = 0, n = 0, star = -1, mark = 0;
        while (n < name.Length)
        {
            if (p < pattern.Length && pattern[p] == '*')
            {
                star = p++;
                mark = n;
            }
            else if (p < pattern.Length && (pattern[p] == '?' || char.ToUpperInvariant(pattern[p]) == char.ToUpperInvariant(name[n])))
            {
                p++;
                n++;
            }
            else if (star >= 0)
            {
                p = star + 1;
                n = ++mark;
            }
            else
                return false;
        }
        return pattern.AsSpan(p).Trim('*').IsEmpty;
    }

    /// <inheritdoc/>
    public override string ToString() => Text;
}

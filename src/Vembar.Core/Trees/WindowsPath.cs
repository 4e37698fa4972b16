namespace Vembar.Core.Trees;

/// <summary>A path in an image: its parts from the root on. Compared without case, shown with '/'.</summary>
public sealed class WindowsPath : IEquatable<WindowsPath>
{
    private static readonly System.Buffers.SearchValues<char> s_reserved = System.Buffers.SearchValues.Create("<>:\"/\\|?*");
    private readonly string[] _parts;

    private WindowsPath(string[] parts) => _parts = parts;

    /// <summary>The root.</summary>
    public static WindowsPath Root { get; } = new([]);

    /// <summary>The parts from the root on.</summary>
    public IReadOnlyList<string> Parts => _parts;

    /// <summary>True for the root.</summary>
    public bool IsRoot => _parts.Length == 0;

    /// <summary>The last part; empty for the root.</summary>
    public string Name => IsRoot ? "" : _parts[^1];

    /// <summary>The path above; the root's is the root.</summary>
    public WindowsPath Parent => IsRoot ? this : new WindowsPath(_parts[..^1]);

    /// <summary>Reads a path; '/' and '\' both separate, one in front is optional.</summary>
    /// <exception cref="VembarException">It leads upward, names a drive, or holds a NUL.</exception>
    public static WindowsPath Parse(string text)
    {
        var parts = text.Split(['/', '\\'], StringSplitOptions.RemoveEmptyEntries).Where(p => p != ".").ToArray();
        if (parts.Contains(".."))
            throw VembarException.Input("bad-path", $"'{text}' leads upward ('..')", "Give the path from the root of the image.");
        if (parts.Length > 0 && parts[0].Length == 2 && parts[0][1] == ':')
            throw VembarException.Input("bad-path", $"'{text}' names a drive", "Give the path from the root of the image, without a drive letter.");
        if (text.Contains('\0'))
            throw VembarException.Input("bad-path", "a path holds a NUL character", "Check the path.");
        return new WindowsPath(parts);
    }

    /// <summary>A path one deeper; the name is taken as it is.</summary>
    public WindowsPath Child(string name) => new([.. _parts, name]);

    /// <summary>The path of a node below one above it, made of their names in one piece.</summary>
    internal static WindowsPath Below<T>(T top, T node, Func<T, T?> parent, Func<T, string> name) where T : class
    {
        var depth = 0;
        for (var at = node; at != top; at = parent(at)!)
            depth++;
        var parts = new string[depth];
        for (var at = node; at != top; at = parent(at)!)
            parts[--depth] = name(at);
        return new WindowsPath(parts);
    }

    /// <summary>The same path below another one.</summary>
    public WindowsPath Append(WindowsPath rest) => new([.. _parts, .. rest._parts]);

    /// <summary>The parts joined by '/'; "/" for the root.</summary>
    public override string ToString() => IsRoot ? "/" : string.Join('/', _parts);

    /// <inheritdoc/>
    public bool Equals(WindowsPath? other) =>
        other is not null && _parts.AsSpan().SequenceEqual(other._parts, StringComparer.OrdinalIgnoreCase);

    /// <inheritdoc/>
    public override bool Equals(object? obj) => Equals(obj as WindowsPath);

    /// <inheritdoc/>
    public override int GetHashCode()
    {
        var hash = new HashCode();
        foreach (var part in _parts)
            hash.Add(part, StringComparer.OrdinalIgnoreCase);
        return hash.ToHashCode();
    }

    /// <summary>A name that no Windows program could open: reserved letters, device names, a dot or space at the end.</summary>
    public static bool IsUsableName(string name)
    {
        if (name.Length is 0 or > 255 || name.AsSpan().ContainsAny(s_reserved) || name.Any(c => c < ' ') || name[^1] is '.' or ' ')
            return false;
        var stem = name.Split('.')[0].TrimEnd().ToUpperInvariant();
        return !(stem is "CON" or "PRN" or "AUX" or "NUL" || (stem.Length == 4 && (stem.StartsWith("COM", StringComparison.Ordinal) || stem.StartsWith("LPT", StringComparison.Ordinal)) && stem[3] is >= '1' and <= '9'));
    }
}

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

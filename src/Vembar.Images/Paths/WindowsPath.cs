using Vembar.Common;

namespace Vembar.Images.Paths;

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
            throw VembarException.Input("bad-path", $"'{text}' names a drive",
                "Give the path from the root of the image, without a drive letter.");
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
        return !(stem is "CON" or "PRN" or "AUX" or "NUL"
            || (stem.Length == 4 && (stem.StartsWith("COM", StringComparison.Ordinal) || stem.StartsWith("LPT", StringComparison.Ordinal))
            && stem[3] is >= '1' and <= '9'));
    }
}

using System.Globalization;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The decoration of a models section: which Windows it is for.</summary>
/// <param name="Text">As it stands.</param>
/// <param name="Architecture">x86, amd64, arm64, or empty for any.</param>
/// <param name="Major">Least major version; 0 for any.</param>
/// <param name="Minor">Least minor version.</param>
/// <param name="ProductType">1 client, 2 and 3 server, 0 any.</param>
/// <param name="Build">Least build; 0 for any.</param>
public sealed record TargetOs(string Text, string Architecture, int Major, int Minor, int ProductType, int Build) : IComparable<TargetOs>
{
    /// <summary>Reads NT[arch][.[major][.[minor][.[productType][.[suiteMask][.[build]]]]]].</summary>
    public static TargetOs Parse(string text)
    {
        text = text.Trim();
        var parts = text.Split('.');
        int Number(int index)
        {
            var part = index < parts.Length ? parts[index].Trim() : "";
            if (part.StartsWith("0x", StringComparison.OrdinalIgnoreCase))
                return int.TryParse(part.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : 0;
            return int.TryParse(part, CultureInfo.InvariantCulture, out var number) ? number : 0;
        }
        var architecture = parts[0].StartsWith("NT", StringComparison.OrdinalIgnoreCase) ? parts[0][2..].ToLowerInvariant()
            : parts[0].ToLowerInvariant();
        return new TargetOs(text, architecture, Number(1), Number(2), Number(3), Number(5));
    }

    /// <summary>Whether a Windows satisfies it.</summary>
    public bool Fits(WindowsTarget windows) =>
        (Architecture.Length == 0 || Architecture == windows.Architecture) && Major <= windows.Major
        && (Major < windows.Major || Minor == 0)
        && (ProductType == 0 || ProductType == 1 != windows.Server) && Build <= windows.Build;

    /// <summary>The more specific one is greater.</summary>
    public int CompareTo(TargetOs? other) => other is null ? 1
        : (Architecture.Length > 0, Major, Minor, ProductType != 0,
        Build).CompareTo((other.Architecture.Length > 0, other.Major, other.Minor, other.ProductType != 0, other.Build));

    /// <summary>Order by how specific.</summary>
    public static bool operator <(TargetOs a, TargetOs b) => a.CompareTo(b) < 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator >(TargetOs a, TargetOs b) => a.CompareTo(b) > 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator <=(TargetOs a, TargetOs b) => a.CompareTo(b) <= 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator >=(TargetOs a, TargetOs b) => a.CompareTo(b) >= 0;
}

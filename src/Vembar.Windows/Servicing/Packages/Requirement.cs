namespace Vembar.Windows.Servicing.Packages;

/// <summary>Something that a package needs: a name, and at least which version.</summary>
/// <param name="Name">The package's name.</param>
/// <param name="Least">The least version; 0 for any.</param>
public sealed record Requirement(string Name, Version Least)
{
    /// <summary>Reads "name" or "name >= version".</summary>
    public static Requirement? Parse(string text)
    {
        var parts = text.Split(">=", 2, StringSplitOptions.TrimEntries);
        return ServicingName.IsOne(parts[0]) && (parts.Length == 1 || PackageManifest.TryVersion(parts[1], out _))
            ? new Requirement(parts[0], parts.Length == 1 ? new Version(0, 0, 0, 0)
            : PackageManifest.TryVersion(parts[1], out var least) ? least : new Version(0, 0, 0, 0)) : null;
    }

    /// <inheritdoc/>
    public override string ToString() => Least > new Version(0, 0, 0, 0) ? $"{Name} >= {PackageManifest.Show(Least)}" : Name;
}

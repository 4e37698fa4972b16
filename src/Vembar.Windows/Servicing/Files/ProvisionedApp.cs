using Vembar.Images.Paths;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Files;

/// <summary>An app package that every new user gets.</summary>
/// <param name="FullName">NAME_VERSION_ARCHITECTURE_RESOURCE_PUBLISHER.</param>
/// <remarks>
/// Source: the vendor's "Package identity" for the parts of the name. That an app is provisioned stands in SOFTWARE
/// …\AppxAllUserStore\Applications; Deprovisioned keeps updates of Windows from bringing it back.
/// </remarks>
public sealed record ProvisionedApp(string FullName)
{
    private const string Store = @"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";
    private const string Files = "Program Files/WindowsApps", Repository = "ProgramData/Microsoft/Windows/AppRepository";

    private string[] Parts => FullName.Split('_');

    /// <summary>Its name ("Demo.Games").</summary>
    public string Name => Parts[0];

    /// <summary>Its version; empty when the full name has none.</summary>
    public string Version => Parts.Length > 1 ? Parts[1] : "";

    /// <summary>Name and publisher: the same for all versions and parts.</summary>
    public string Family => $"{Parts[0]}_{Parts[^1]}";

    /// <summary>The apps of an install, by name.</summary>
    public static IReadOnlyList<ProvisionedApp> Read(RegistryHive software) =>
        [.. (software.Key($@"{Store}\Applications")?.Subkeys ?? []).Select(k => new ProvisionedApp(k.Name))
        .OrderBy(a => a.FullName, StringComparer.OrdinalIgnoreCase)];

    /// <summary>Takes apps out: their provisioning and their files.</summary>
    /// <returns>How many were there.</returns>
    internal static int Remove(ServiceContext context, Removal away, string pattern)
    {
        if (context.Hive("SOFTWARE") is not { } software)
            return 0;
        var name = Glob.ParseName(pattern);
        var families = Read(software).Where(a => name.Matches([a.Name])).Select(a => a.Family).Distinct(StringComparer.OrdinalIgnoreCase)
            .ToList();
        foreach (var family in families)
        {
            bool IsOfIt(string full) =>
                full.Contains('_') && new ProvisionedApp(full).Family.Equals(family, StringComparison.OrdinalIgnoreCase);
            foreach (var list in (string[])["Applications", "Staged", "InboxApplications"])
            {
                foreach (var key in (software.Key($@"{Store}\{list}")?.Subkeys ?? []).Where(k => IsOfIt(k.Name)))
                    key.Delete();
            }
            software.Root.Ensure($@"{Store}\Deprovisioned\{family}");
            context.MarkModified("SOFTWARE");
            foreach (var folder in (string[])[Files, Repository, $"{Repository}/Packages"])
            {
                var path = WindowsPath.Parse(folder);
                foreach (var file in context.Tree.Names(path)
                    .Where(n => IsOfIt(n.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) ? n[..^4] : n)).ToList())
                    away.Take(context.Tree.Find(path.Child(file))!);
            }
        }
        return families.Count;
    }
}

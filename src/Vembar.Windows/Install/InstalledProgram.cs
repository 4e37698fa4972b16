using Vembar.Windows.Registry;

namespace Vembar.Windows.Install;

/// <summary>A program as the list of installed programs shows it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Its version.</param>
/// <param name="Publisher">Who publishes it.</param>
/// <param name="Bytes">The size that its set-up estimated, in bytes; null when it gave none.</param>
public sealed record InstalledProgram(string Name, string Version, string Publisher, long? Bytes)
{
    /// <summary>The folder that its set-up says it is in, with a drive letter; empty when it says none.</summary>
    public string Location { get; init; } = "";

    /// <summary>The programs of an install, by name; those that Windows does not show are left out.</summary>
    public static IReadOnlyList<InstalledProgram> Read(RegistryHive software)
    {
        const string Uninstall = @"Microsoft\Windows\CurrentVersion\Uninstall";
        var programs = new List<InstalledProgram>();
        foreach (var path in (string[])[Uninstall, @"WOW6432Node\" + Uninstall])
        {
            foreach (var key in software.Key(path)?.Subkeys ?? [])
            {
                if (key.GetString("DisplayName") is not { Length: > 0 } name || key.GetDword("SystemComponent") == 1)
                    continue;
                programs.Add(new InstalledProgram(name, key.GetString("DisplayVersion") ?? "", key.GetString("Publisher") ?? "",
                    key.GetDword("EstimatedSize") * 1024L)
                {
                    Location = key.GetString("InstallLocation") ?? "",
                });
            }
        }
        return [.. programs.Distinct().OrderBy(p => p.Name, StringComparer.OrdinalIgnoreCase)];
    }
}

using System.Text.RegularExpressions;
using Vembar.Images.Paths;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Install;

/// <summary>The users of an install: SOFTWARE › Microsoft\Windows NT\CurrentVersion\ProfileList names the folder of each.</summary>
public static partial class UserProfiles
{
    internal const string List = @"Microsoft\Windows NT\CurrentVersion\ProfileList";
    private const string Classes = "_CLASSES";

    [GeneratedRegex("^S-1(-[0-9]{1,10}){2,14}(_Classes)?$", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex Form();

    /// <summary>Whether a name is a user's, as HKEY_USERS has them: a security identifier, also with "_Classes".</summary>
    public static bool IsUser(string name) => Form().IsMatch(name);

    /// <summary>The users that an install has, by their security identifiers.</summary>
    /// <param name="software">The SOFTWARE hive; may be null.</param>
    public static IReadOnlyList<string> All(RegistryHive? software) =>
        [.. (software?.Key(List)?.Subkeys ?? []).Select(k => k.Name).Where(IsUser)];

    /// <summary>Where a user's hive is; null when the install has no such user.</summary>
    /// <param name="software">The SOFTWARE hive; may be null.</param>
    /// <param name="name">The security identifier; with "_Classes" for the hive of the user's classes.</param>
    /// <param name="windows">The name of the Windows folder.</param>
    public static WindowsPath? HivePath(RegistryHive? software, string name, string windows)
    {
        var isClasses = name.EndsWith(Classes, StringComparison.OrdinalIgnoreCase);
        var user = isClasses ? name[..^Classes.Length] : name;
        string[] rest = isClasses ? ["AppData", "Local", "Microsoft", "Windows", "UsrClass.dat"] : ["NTUSER.DAT"];
        return FolderOf(software, user, windows) is { } folder ? rest.Aggregate(folder, (at, part) => at.Child(part)) : null;
    }

    /// <summary>Where a user's profile is; null when the install has no such user.</summary>
    /// <param name="software">The SOFTWARE hive; may be null.</param>
    /// <param name="user">The security identifier.</param>
    /// <param name="windows">The name of the Windows folder.</param>
    public static WindowsPath? FolderOf(RegistryHive? software, string user, string windows)
    {
        if (software?.Key($@"{List}\{user}")?.GetString("ProfileImagePath") is not { Length: > 0 } folder)
            return null;
        var path = folder.Replace("%SystemRoot%", windows, StringComparison.OrdinalIgnoreCase)
            .Replace("%windir%", windows, StringComparison.OrdinalIgnoreCase)
            .Replace("%SystemDrive%", "", StringComparison.OrdinalIgnoreCase);
        if (path.Length > 1 && path[1] == ':')
            path = path[2..];
        var parts = path.Split('\\', StringSplitOptions.RemoveEmptyEntries);
        if (parts.Length == 0 || !parts.All(p => p is not ("." or "..") && WindowsPath.IsUsableName(p)))
            return null;
        return parts.Aggregate(WindowsPath.Root, (at, part) => at.Child(part));
    }
}

using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Windows.Registry;

namespace Vembar.Windows.UserData;

/// <summary>Where a user's documents, desktop, pictures and favourites are, when somebody or a policy moved them: NTUSER.DAT ›
/// Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders.</summary>
public static class UserFolders
{
    private const string Key = @"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders", Profile = "%USERPROFILE%";

    private static readonly (string Value, string Usual)[] s_known =
    [
        ("Personal", "Documents"), ("Desktop", "Desktop"), ("My Pictures", "Pictures"), ("Favorites", "Favorites"), ("My Music", "Music"),
        ("My Video", "Videos"), ("{374DE290-123F-4565-9164-39C4925E467B}", "Downloads"),
    ];

    /// <summary>Reads what was moved.</summary>
    /// <param name="files">The install.</param>
    /// <param name="folder">The folder of the user's profile.</param>
    /// <param name="notes">Told of what cannot be read.</param>
    /// <returns>For each that is not at its usual place: the usual name, and where it is; of what is inside of the profile as a path below
    /// it ("OneDrive\Documents"), else as Windows says it.</returns>
    public static IReadOnlyList<(string Usual, string Place, bool IsInside)> Moved(IReadOnlyTree files, WindowsPath folder,
        List<string> notes)
    {
        RegistryKey? key;
        try
        {
            key = files.ReadFile(folder.Child("NTUSER.DAT"), RegistryHive.Longest) is { Length: > 0 } bytes
                ? RegistryHive.Open(bytes, write: false, $"{files.DisplayName}: '{folder.Child("NTUSER.DAT")}'").Key(Key) : null;
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            notes.Add($"it is not known whether folders of {folder.Name} were moved: {problem.Message}");
            return [];
        }
        var moved = new List<(string, string, bool)>();
        foreach (var (value, usual) in s_known)
        {
            if (key?.GetString(value) is not { Length: > 0 } place)
                continue;
            var own = $@"C:\{string.Join('\\', folder.Parts)}";
            var below = place.StartsWith($@"{Profile}\", StringComparison.OrdinalIgnoreCase) ? place[(Profile.Length + 1)..]
                : place.StartsWith($@"{own}\", StringComparison.OrdinalIgnoreCase) ? place[(own.Length + 1)..] : null;
            var parts = below?.Split('\\', StringSplitOptions.RemoveEmptyEntries) ?? [];
            var isInside = parts.Length > 0 && parts.All(WindowsPath.IsUsableName)
                && !parts.Any(p => p is "." or ".." || Glob.IsPattern(p));
            if (!isInside)
                moved.Add((usual, place, false));
            else if (!string.Join('\\', parts).Equals(usual, StringComparison.OrdinalIgnoreCase))
                moved.Add((usual, string.Join('\\', parts), true));
        }
        return moved;
    }
}

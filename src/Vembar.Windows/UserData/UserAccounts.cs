using System.Buffers.Binary;
using System.Globalization;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.UserData;

/// <summary>Whose profiles an install has.</summary>
public static class UserAccounts
{
    // S-1-5-21 is of a machine or a domain, S-1-12-1 of a directory; all others are of services.
    private const string Machine = "S-1-5-21-", Directory = "S-1-12-1-", UsersFolder = "Users";
    private static readonly string[] s_nobody = ["Default", "Default User", "All Users", "Public", "defaultuser0"];

    /// <summary>The accounts of people, by the list of profiles; then folders beside their profiles that no account has.</summary>
    /// <param name="files">The install.</param>
    /// <param name="windows">The name of its Windows folder.</param>
    /// <param name="software">Its SOFTWARE hive.</param>
    /// <param name="sam">Its SAM hive, which tells accounts of the machine from those of a domain; where there is none, all count as the
    /// machine's.</param>
    public static IReadOnlyList<UserAccount> Read(IReadOnlyTree files, string windows, RegistryHive software, RegistryHive? sam)
    {
        var own = sam is null ? null : MachineSid(sam);
        var accounts = new List<UserAccount>();
        var taken = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var sid in UserProfiles.All(software)
            .Where(s => s.StartsWith(Machine, StringComparison.OrdinalIgnoreCase)
                || s.StartsWith(Directory, StringComparison.OrdinalIgnoreCase))
            .Order(StringComparer.OrdinalIgnoreCase))
        {
            // Never the root or a part of Windows itself, whatever the hive says.
            if (UserProfiles.FolderOf(software, sid, windows) is not { Parts.Count: > 1 } folder
                || folder.Parts[0].Equals(windows, StringComparison.OrdinalIgnoreCase) || !taken.Add(folder.ToString())
                || !files.Folders(folder.Parent).Contains(folder.Name, StringComparer.OrdinalIgnoreCase))
                continue;
            var isDomain = sid.StartsWith(Directory, StringComparison.OrdinalIgnoreCase)
                || own is not null && !sid.StartsWith($"{own}-", StringComparison.OrdinalIgnoreCase);
            accounts.Add(new UserAccount(folder.Name, folder, sid, isDomain,
                software.Key($@"{UserProfiles.List}\{sid}")?.GetString("Guid") is { Length: > 0 and < 50 } guid ? guid : null));
        }
        var users = WindowsPath.Root.Child(UsersFolder);
        foreach (var name in files.Folders(users))
        {
            var folder = users.Child(name);
            if (!s_nobody.Contains(name, StringComparer.OrdinalIgnoreCase) && taken.Add(folder.ToString()))
                accounts.Add(new UserAccount(name, folder, "", IsDomain: false, null));
        }
        return [.. accounts.OrderBy(a => a.Folder.ToString(), StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>The security identifier that all accounts of a machine begin with: SAM › SAM\Domains\Account, the last three numbers of
    /// the value V.</summary>
    /// <param name="sam">The SAM hive.</param>
    /// <returns>S-1-5-21 with three numbers; null when the hive does not say.</returns>
    public static string? MachineSid(RegistryHive sam)
    {
        const int Numbers = 12;
        if (sam.Key(@"SAM\Domains\Account")?.Get("V") is not { Bytes: { Length: >= Numbers } bytes })
            return null;
        var at = bytes.AsSpan(bytes.Length - Numbers);
        return string.Create(CultureInfo.InvariantCulture, $"{Machine}{BinaryPrimitives.ReadUInt32LittleEndian(at)}-"
            + $"{BinaryPrimitives.ReadUInt32LittleEndian(at[4..])}-{BinaryPrimitives.ReadUInt32LittleEndian(at[8..])}");
    }

    /// <summary>A security identifier as Windows keeps it (MS-DTYP 2.4.2.2).</summary>
    /// <param name="sid">Its text.</param>
    public static byte[] SidBytes(string sid)
    {
        var parts = sid.Split('-');
        var bytes = new byte[8 + 4 * (parts.Length - 3)];
        bytes[0] = byte.Parse(parts[1], CultureInfo.InvariantCulture);
        bytes[1] = (byte)(parts.Length - 3);
        bytes[7] = byte.Parse(parts[2], CultureInfo.InvariantCulture);
        for (var i = 3; i < parts.Length; i++)
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(8 + 4 * (i - 3)), uint.Parse(parts[i], CultureInfo.InvariantCulture));
        return bytes;
    }

    /// <summary>Lists an account among those that have a profile, as Windows does after the first time that it signed in.</summary>
    /// <param name="software">The SOFTWARE hive, to be written.</param>
    /// <param name="sid">The account.</param>
    /// <param name="guid">What the directory knows it by; null when that is not known.</param>
    /// <param name="folder">The folder of its profile.</param>
    public static void AddProfile(RegistryHive software, string sid, string? guid, WindowsPath folder)
    {
        var key = software.Root.Ensure($@"{UserProfiles.List}\{sid}");
        key.SetString("ProfileImagePath", $@"%SystemDrive%\{string.Join('\\', folder.Parts)}", RegistryType.ExpandString);
        key.Set("Sid", RegistryType.Binary, SidBytes(sid));
        key.SetDword("Flags", 0);
        key.SetDword("State", 0);
        key.SetDword("FullProfile", 1);
        if (guid is null)
            return;
        key.SetString("Guid", guid);
        software.Root.Ensure($@"Microsoft\Windows NT\CurrentVersion\ProfileGuid\{guid}").SetString("SidString", sid);
    }
}

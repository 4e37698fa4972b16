using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Windows.UserData;

/// <summary>What is kept of an install, by its accounts and the rules.</summary>
/// <param name="Accounts">The accounts, each with whether its profile is kept whole.</param>
/// <param name="Exclusions">What is taken, and what of it is not.</param>
/// <param name="Notes">What should be known of it.</param>
public sealed record KeepPlan(IReadOnlyList<(UserAccount Account, bool IsWhole)> Accounts, Exclusions Exclusions,
    IReadOnlyList<string> Notes)
{
    /// <summary>Makes the plan.</summary>
    /// <param name="files">The install.</param>
    /// <param name="accounts">Its accounts that something is kept of.</param>
    /// <param name="rules">The rules.</param>
    public static KeepPlan Make(IReadOnlyTree files, IReadOnlyList<UserAccount> accounts, KeepRules rules)
    {
        var notes = new List<string>();
        var planned = new List<(UserAccount, bool)>();
        var only = new List<string>(rules.Elsewhere);
        var leaveOut = new List<string>();
        foreach (var account in accounts)
        {
            // Without its registry hive, Windows would not take a profile.
            var isWhole = rules.WholeDomainProfiles && account.IsDomain && files.Exists(account.Folder.Child("NTUSER.DAT"));
            planned.Add((account, isWhole));
            string Below(string pattern) => $"{account.Folder}/{pattern}";
            leaveOut.AddRange(rules.LeaveOut.Select(Below));
            only.AddRange(isWhole ? [Below("**")] : rules.Keep.Select(Below));
            foreach (var (usual, place, isInside) in UserFolders.Moved(files, account.Folder, notes))
            {
                var concerned = rules.Keep.Select(WindowsPath.Parse)
                    .Where(p => p.Parts is [var first, ..] && first.Equals(usual, StringComparison.OrdinalIgnoreCase)).ToList();
                if (!isInside && (isWhole || concerned.Count > 0))
                    notes.Add($"{usual} of {account.Name} are at {place}: that is not on this volume's profile, and is not kept");
                else if (isInside)
                    only.AddRange(concerned.Select(p => Below(string.Join('/', [place.Replace('\\', '/'), .. p.Parts.Skip(1)]))));
            }
        }
        return new KeepPlan(planned, Exclusions.Selecting(only, leaveOut), notes);
    }
}

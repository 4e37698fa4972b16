using System.Globalization;
using System.Text;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Windows.Registry;
using Vembar.Windows.UserData;

namespace Vembar.Operations.UserData;

/// <summary>Finds for each account of an image of user files where its files go on another install, and arranges the image's tree
/// so.</summary>
/// <param name="editor">The tree.</param>
/// <param name="image">The image.</param>
/// <param name="target">The install.</param>
/// <param name="there">The accounts that it has.</param>
/// <param name="begun">Where an earlier run of the same, which was broken off, puts the files of each account, by the folders of the
/// accounts' profiles in the image; null for none.</param>
internal sealed class UserFilePlaces(TreeEditor editor, ImageRecord image, IReadOnlyTree target, IReadOnlyList<UserAccount> there,
    IReadOnlyDictionary<string, string>? begun)
{
    // Nobody but those who look after the machine; they hand it out.
    private const string ForAdministrators = "O:BAG:SYD:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)";

    private readonly Dictionary<string, WindowsPath> _folders = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>What should be known.</summary>
    public List<string> Warnings { get; } = [];

    /// <summary>The accounts whose profile the install has to be told of.</summary>
    public List<(KeptAccount Account, WindowsPath Folder)> Profiles { get; } = [];

    /// <summary>Where the files of each account go, by the folders of the accounts' profiles in the image.</summary>
    public SortedDictionary<string, string> Places { get; } = new(StringComparer.Ordinal);

    /// <summary>Arranges the tree: what is left of it is what is to be written.</summary>
    /// <param name="accounts">The accounts whose files are put back.</param>
    /// <param name="withElsewhere">Whether also what was kept outside of profiles.</param>
    public IReadOnlyList<LaidAccount> Arrange(IReadOnlyList<KeptAccount> accounts, bool withElsewhere)
    {
        var laid = new List<LaidAccount>();
        var moved = new List<(TreeEditor.Node Node, WindowsPath To, KeptAccount Account, UserAccount? Owner, bool IsProfile)>();
        foreach (var account in image.UserFiles!.Accounts)
        {
            if (editor.Find(WindowsPath.Parse(account.Folder)) is not { Parent: not null, Entry.Kind: EntryKind.Folder } node)
                continue;
            editor.Detach(node);
            if (!accounts.Contains(account))
                continue;
            var (to, owner, isProfile) = PlaceOf(account);
            to = begun?.GetValueOrDefault(account.Folder) is { } known ? WindowsPath.Parse(known) : to;
            Places[account.Folder] = to.ToString();
            moved.Add((node, to, account, owner, isProfile));
        }
        if (!withElsewhere)
        {
            foreach (var node in editor.Children(editor.Root).ToList())
                editor.Remove(node);
        }
        foreach (var (node, to, account, owner, isProfile) in moved)
        {
            if (isProfile)
                Profiles.Add((account, to));
            else
                Plain(node, account, owner);
            MakeFolders(to.Parent);
            editor.Attach(node, to);
            if (!isProfile && owner is null)
                TreeEditor.Set(node, e => e with { PendingSecurity = DescriptorFor(account) });
            var (files, bytes) = Count(node);
            laid.Add(new LaidAccount(account.Name, account.Sid, to.ToString(), isProfile, files, bytes));
        }
        return laid;
    }

    private (WindowsPath To, UserAccount? Owner, bool IsProfile) PlaceOf(KeptAccount account)
    {
        var same = account.Sid.Length == 0 ? null
            : there.FirstOrDefault(a => a.Sid.Equals(account.Sid, StringComparison.OrdinalIgnoreCase));
        // An earlier run may have come as far as telling the install of the profile.
        if (account.IsWhole && (same is null || begun?.GetValueOrDefault(account.Folder) == same.Folder.ToString()))
            return (FreeProfile(WindowsPath.Parse(account.Folder)), null, true);
        var owner = same ?? (account.IsDomain ? null
            : there.FirstOrDefault(a => a is { IsDomain: false, Sid.Length: > 0 }
            && a.Name.Equals(account.Name, StringComparison.OrdinalIgnoreCase)));
        if (owner is not null)
            return (OldInstall(owner.Folder.Append(Documents(owner))), owner, false);
        Warnings.Add($"{account.Name} has no profile on this install: the files are in the public documents, "
            + (account.IsDomain ? "for the account itself and administrators" : "for administrators to hand out"));
        return (OldInstall(WindowsPath.Parse("Users/Public/Documents")).Child(account.Name), null, false);
    }

    private WindowsPath Documents(UserAccount owner) =>
        UserFolders.Moved(target, owner.Folder, Warnings)
        .FirstOrDefault(m => m is { Usual: "Documents", IsInside: true }) is { Place: { } place }
        ? WindowsPath.Parse(place) : WindowsPath.Root.Child("Documents");

    // Windows takes no folder for a profile that is there already without one.
    private WindowsPath FreeProfile(WindowsPath folder)
    {
        var free = folder;
        for (var number = 2; begun is null && target.Exists(free); number++)
            free = folder.Parent.Child(string.Create(CultureInfo.InvariantCulture, $"{folder.Name}.{number}"));
        if (!free.Equals(folder))
            Warnings.Add($"'{folder}' is there already without an account, so the profile is '{free}'");
        return free;
    }

    // Files of two old installs are not mixed.
    private WindowsPath OldInstall(WindowsPath documents)
    {
        if (_folders.TryGetValue(documents.ToString(), out var known))
            return known;
        var folder = documents.Child(RestoreUserDataHandler.FolderName);
        for (var number = 1; target.Exists(folder); number++)
            folder = documents.Child(string.Create(CultureInfo.InvariantCulture,
                $"{RestoreUserDataHandler.FolderName} {image.Version}{(number > 1 ? $".{number}" : "")}"));
        return _folders[documents.ToString()] = folder;
    }

    // Folders that lead there are there, or are like the folder that they are in.
    private void MakeFolders(WindowsPath path)
    {
        var at = WindowsPath.Root;
        foreach (var name in path.Parts)
        {
            at = at.Child(name);
            if (editor.Find(at) is null)
                TreeEditor.Set(editor.EnsureFolder(at), e => e with { Security = default });
        }
    }

    // Into somebody's documents go files, with the rights of these documents; not what a profile is made of.
    private void Plain(TreeEditor.Node node, KeptAccount account, UserAccount? owner)
    {
        if (account.IsWhole)
        {
            var parts = editor.Children(node).Where(c => c.Entry.HasName("AppData") || c.Entry.Reparse is not null
                || c.Entry.Name.StartsWith("ntuser", StringComparison.OrdinalIgnoreCase)).ToList();
            foreach (var part in parts)
                editor.Remove(part);
            Warnings.Add($"{account.Name} has a profile on this install already: of the old one, the settings of programs (AppData) were "
                + "not put back; they are in the image");
        }
        void Strip(TreeEditor.Node at)
        {
            TreeEditor.Set(at, e => e with { Security = default });
            if (at.Entry.Kind != EntryKind.Folder)
                return;
            foreach (var child in editor.Children(at))
                Strip(child);
        }
        Strip(node);
        if (node.Entry.Attributes is { } attributes && owner is null)
            TreeEditor.SetAttributes(node, attributes & ~(WindowsAttributes.Hidden | WindowsAttributes.System));
    }

    private static byte[] DescriptorFor(KeptAccount account)
    {
        var text = new StringBuilder(ForAdministrators);
        if (account.IsDomain)
            text.Append(CultureInfo.InvariantCulture, $"(A;OICI;FA;;;{account.Sid})");
        return SecurityText.Parse(text.ToString(), out var problem) ?? throw new InvalidOperationException(problem);
    }

    private (long Files, long Bytes) Count(TreeEditor.Node node)
    {
        if (node.Entry.Kind != EntryKind.Folder)
            return (1, node.Entry.Length);
        var (files, bytes) = (0L, 0L);
        foreach (var child in editor.Children(node))
        {
            var (more, moreBytes) = Count(child);
            files += more;
            bytes += moreBytes;
        }
        return (files, bytes);
    }
}

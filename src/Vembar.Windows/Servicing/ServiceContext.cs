using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing;

/// <summary>The image that is serviced: its tree, what Windows says of itself, and its hives.</summary>
public sealed class ServiceContext
{
    private readonly Dictionary<string, (RegistryHive Hive, bool[] Changed)> _hives = new(StringComparer.OrdinalIgnoreCase);

    // Hives that were looked into, with what they were then.
    private readonly Dictionary<string, (RegistryHive Hive, ChunkId Hash)> _seen = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Begins servicing a tree.</summary>
    public ServiceContext(TreeEditor tree)
    {
        Tree = tree;
        var hives = new List<(string Name, RegistryHive Hive)>();
        Install = WindowsInstall.Read(tree, (name, hive) => hives.Add((name, hive)));
        foreach (var (name, hive) in hives)
        {
            if (Stored(name)?.Content.Hash is { } hash)
                _seen[name] = (hive, hash);
        }
    }

    /// <summary>The tree.</summary>
    public TreeEditor Tree { get; }

    /// <summary>Ends the servicing; looked at before each edit of a hive, too.</summary>
    public CancellationToken Cancellation { get; init; }

    /// <summary>Whether anything will be changed; what is only looked at need not be sound all over.</summary>
    public bool MayChange { get; init; } = true;

    /// <summary>Drivers in the image that nobody trusted signed; changes keep it true.</summary>
    public List<UnsignedDriver> UnsignedDrivers { get; } = [];

    /// <summary>Hardware models that drivers were chosen for.</summary>
    public SortedSet<string> Models { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Whether the answer file was put in by servicing, and not taken over from the reference.</summary>
    public bool HasOwnAnswerFile { get; set; }

    /// <summary>What Windows says of itself; null when the image holds none.</summary>
    public WindowsInstall? Install { get; }

    /// <summary>A path below the Windows folder.</summary>
    public WindowsPath Windows(string path) => WindowsPath.Root.Child(Install!.Folder).Append(WindowsPath.Parse(path));

    /// <summary>The name that <see cref="Hive"/> has for the hive that new users' settings come from.</summary>
    public const string NewUsers = "NTUSER.DAT";

    internal const string NewUsersPath = "Users/Default/NTUSER.DAT";

    private WindowsPath PathOf(string hive) => PathOfAny(hive) ?? throw new InvalidOperationException($"there is no hive {hive}");

    private WindowsPath? PathOfAny(string name) => Install is null ? null : name == NewUsers ? WindowsPath.Parse(NewUsersPath)
        : UserProfiles.IsUser(name) ? UserProfiles.HivePath(Hive("SOFTWARE"), name, Install.Folder)
        : WindowsInstall.HivePath(Install.Folder, name);

    /// <summary>A hive of the install, opened once, or null when there is none of that name.</summary>
    /// <param name="name">SYSTEM, SOFTWARE, DEFAULT, …, <see cref="NewUsers"/>, or a user by the security identifier ("S-1-5-21-…",
    /// also with "_Classes").</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public RegistryHive? Hive(string name)
    {
        Cancellation.ThrowIfCancellationRequested();
        if (_hives.TryGetValue(name, out var open))
            return open.Hive;
        if (PathOfAny(name) is not { } path)
            return null;
        RegistryHive hive;
        if (_seen.Remove(name, out var seen) && Stored(name)?.Content.Hash == seen.Hash)
            hive = seen.Hive;
        else if (Tree.ReadFile(path, RegistryHive.Longest) is { } bytes)
            hive = RegistryHive.Open(bytes, write: false, $"{Tree.DisplayName}: '{path}'");
        else
            return null;
        if (MayChange)
        {
            HiveLog.Check(Tree, path, hive.SequenceNumber);
            hive = hive.ForChanges(Tree.Clock.GetUtcNow().UtcDateTime, Cancellation);
        }
        _hives[name] = (hive, [false]);
        return hive;
    }

    /// <summary>Writes a hive anew without what it does not use.</summary>
    /// <param name="name">As for <see cref="Hive"/>.</param>
    /// <returns>How many bytes shorter it is; 0 when there is none, or when it would gain no block: then it stays as it is.</returns>
    /// <exception cref="VembarException">It is damaged.</exception>
    public long Compact(string name)
    {
        const int Block = 4096;
        if (Hive(name) is not { } hive)
            return 0;
        var compact = hive.ToCompactBytes(Cancellation);
        var saved = hive.Length - compact.Length;
        if (saved < Block)
            return 0;
        _hives[name] = (RegistryHive.Open(compact, write: true, $"{Tree.DisplayName}: '{PathOf(name)}'",
            Tree.Clock.GetUtcNow().UtcDateTime, Cancellation), [true]);
        return saved;
    }

    /// <summary>A hive's file as it was before this servicing; null when it is new.</summary>
    internal (FileContent Content, FileTime? Modified)? Stored(string hive) =>
        Tree.Find(PathOf(hive))?.Entry is { New: null, Content: { } content } entry ? (content, entry.Modified) : null;

    /// <summary>Says that a hive was changed and has to be written.</summary>
    public void MarkModified(string hive) => _hives[hive].Changed[0] = true;

    /// <summary>Says that a hive may have become what it was before: when it says the same as that, it gets those very bytes
    /// back.</summary>
    /// <param name="hive">The hive.</param>
    /// <param name="content">What it was, as the archive holds it.</param>
    /// <param name="modified">Its time then.</param>
    internal void AddRevertCandidate(string hive, FileContent content, FileTime? modified) => _before.Add((hive, content, modified));

    private readonly List<(string Hive, FileContent Content, FileTime? Modified)> _before = [];

    // True when the hive says what one that it may have become said.
    private bool IsAsBefore(string name, RegistryHive hive)
    {
        foreach (var (_, content, modified) in _before.Where(b => b.Hive == name))
        {
            try
            {
                var before = RegistryHive.Open(Tree.ReadContent(content, PathOf(name), RegistryHive.Longest), write: false, name);
                if (!before.Root.ContentEquals(hive.Root))
                    continue;
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Damaged or ErrorKind.Input)
            {
                // The archive does not hold it any more.
                continue;
            }
            Tree.SetContent(Tree.Find(PathOf(name))!, content, modified);
            return true;
        }
        return false;
    }

    // What was put into the tree, by the hives' names.
    private readonly Dictionary<string, (RegistryHive Hive, NewContent Content)> _written = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>What Windows says of itself now, when <see cref="WriteHives"/> put a hive into the tree that says it.</summary>
    /// <returns>Null when it says what it said before.</returns>
    /// <exception cref="VembarException">A hive is damaged.</exception>
    internal WindowsInstall? ReadChangedInstall()
    {
        // A hive that was just changed is not read once more: its copy would be as long again.
        RegistryHive Open(string name) =>
            _written.TryGetValue(name, out var written) && Tree.Find(PathOf(name))?.Entry.New is { } put
            && ReferenceEquals(put, written.Content)
            ? written.Hive : WindowsInstall.OpenHive(Tree, Install!.Folder, name);
        return WindowsInstall.FindFolder(Tree) is { } folder && WindowsInstall.IsChanged(Tree, folder)
            ? folder == Install?.Folder ? WindowsInstall.Read(folder, Open("SOFTWARE"), Open("SYSTEM")) : WindowsInstall.Read(Tree)
            : null;
    }

    /// <summary>Puts the changed hives into the tree.</summary>
    public void WriteHives()
    {
        foreach (var (name, (hive, changed)) in _hives)
        {
            if (!changed[0])
                continue;
            changed[0] = false;
            if (IsAsBefore(name, hive))
                continue;
            var content = hive.ToContent();
            Tree.PutFile(PathOf(name), content);
            _written[name] = (hive, content);
        }
    }
}

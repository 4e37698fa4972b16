using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Store.Hashing;

namespace Vembar.Volumes.Targets;

/// <summary>What a tree's deployment writes, in the order of its paths.</summary>
internal sealed class DeployPlan
{
    private readonly Dictionary<TreeEditor.Node, PlannedEntry> _firstNames = [];
    private readonly Dictionary<(ulong Group, ChunkId Content), PlannedEntry> _groups = [];

    private DeployPlan()
    {
    }

    /// <summary>The folders, each before what is in it; the root first.</summary>
    public List<PlannedEntry> Folders { get; } = [];

    /// <summary>The files, each by its first name.</summary>
    public List<PlannedEntry> Files { get; } = [];

    /// <summary>Links, and further names of files.</summary>
    public List<PlannedEntry> Links { get; } = [];

    public IEnumerable<PlannedEntry> FilesAndLinks => Files.Concat(Links);

    /// <summary>What was there already and was left.</summary>
    public IEnumerable<string> Kept => FilesAndLinks.Where(f => f.IsKept).Select(f => f.Path.ToString());

    /// <summary>Makes the plan.</summary>
    /// <param name="tree">What is to be written.</param>
    /// <param name="workers">How many folders are read at once.</param>
    /// <param name="takes">Whether the target takes an entry; asked once for each, before what is in it.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">The tree is damaged.</exception>
    public static async Task<DeployPlan> MakeAsync(TreeEditor tree, int workers, Func<TreeEditor.Node, bool> takes,
        CancellationToken cancellation)
    {
        await tree.LoadAllAsync(workers, cancellation).ConfigureAwait(false);
        var plan = new DeployPlan();
        plan.AddFolder(tree, tree.Root, takes, cancellation);
        return plan;
    }

    private void AddFolder(TreeEditor tree, TreeEditor.Node folder, Func<TreeEditor.Node, bool> takes, CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        Folders.Add(new PlannedEntry(folder));
        foreach (var child in tree.Children(folder))
        {
            if (!takes(child))
                continue;
            if (child.Entry.Kind == EntryKind.Folder)
                AddFolder(tree, child, takes, cancellation);
            else
                AddFile(new PlannedEntry(child));
        }
    }

    private void AddFile(PlannedEntry item)
    {
        var entry = item.Entry;
        var isLinked = entry.LinkGroup != 0 && entry.Content is not null;
        if (isLinked && _groups.TryGetValue((entry.LinkGroup, entry.Content!.Hash), out var first))
        {
            Links.Add(item);
            _firstNames[item.Node] = first;
            return;
        }
        (entry.Kind == EntryKind.Link ? Links : Files).Add(item);
        if (isLinked)
            _groups[(entry.LinkGroup, entry.Content!.Hash)] = item;
    }

    /// <summary>The first name of the file that an entry is a further name of; null when it is none.</summary>
    public PlannedEntry? FirstNameOf(PlannedEntry item) => _firstNames.TryGetValue(item.Node, out var first) ? first : null;
}

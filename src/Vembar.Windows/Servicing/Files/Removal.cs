using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Files and folders that are taken out, counted.</summary>
internal sealed class Removal(ServiceContext context)
{
    public long Files { get; private set; }

    public long Folders { get; private set; }

    /// <summary>Takes a path, or all that matches a pattern; the folders above stay.</summary>
    public void Take(string pattern)
    {
        foreach (var node in Glob.IsPattern(pattern) ? TreeFiles.Matching(context.Tree, pattern)
            : context.Tree.Find(WindowsPath.Parse(pattern)) is { Parent: not null } one ? [one] : [])
            Take(node);
    }

    public void Take(TreeEditor.Node node)
    {
        Folders += node.Entry.Kind == EntryKind.Folder ? 1 : 0;
        Files += context.Tree.Remove(node).Files;
    }
}

using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;

namespace Vembar.Volumes.Targets;

/// <summary>An entry of a tree that is to be written, with what became of it. There is one for every file, so it is no object of its
/// own.</summary>
/// <param name="Node">Its place in the tree.</param>
internal readonly record struct PlannedEntry(TreeEditor.Node Node)
{
    public WindowsPath Path => Node.Path;

    public TreeEntry Entry => Node.Entry;

    /// <summary>Whether it was written.</summary>
    public bool IsMade => Node.Placement == TreeEditor.Placement.Made;

    /// <summary>Whether what was there already was left.</summary>
    public bool IsKept => Node.Placement == TreeEditor.Placement.Kept;

    /// <summary>The folder that it is in; null for the root.</summary>
    public PlannedEntry? Folder => Node.Parent is { } parent ? new PlannedEntry(parent) : null;

    /// <summary>Notes what became of it.</summary>
    /// <param name="made">Whether it was written; else, what was there already was left.</param>
    public void Mark(bool made) => Node.Placement = made ? TreeEditor.Placement.Made : TreeEditor.Placement.Kept;

    /// <summary>Notes that nothing became of it.</summary>
    public void Unmark() => Node.Placement = TreeEditor.Placement.None;
}

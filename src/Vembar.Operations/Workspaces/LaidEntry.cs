using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Workspaces;

/// <summary>What the file system said of an entry of a workspace when it was laid open: it tells whether anybody touched it
/// since.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Kind">File, folder or link.</param>
/// <param name="Length">Its length in bytes.</param>
/// <param name="Modified">When its content changed.</param>
/// <param name="Changed">When anything of it changed; nobody can set that back.</param>
/// <param name="FileId">What the file system knows it by.</param>
/// <param name="Owner">Owner and permissions.</param>
/// <param name="Children">What is in a folder, by name.</param>
internal sealed record LaidEntry(string Name, EntryKind Kind, long Length, FileTime? Modified, long Changed, ulong FileId,
    PosixOwner Owner, IReadOnlyList<LaidEntry> Children)
{
    /// <summary>Of a folder that was just walked over.</summary>
    public static LaidEntry Of(SourceNode node) => new(
        node.Name, node.Kind, (node.HardLinkOf ?? node).Length, node.Modified, node.Changed, node.FileId, node.Entry.Owner ?? default,
        node.Children is null ? [] : [.. node.Children.Select(Of)]);

    /// <summary>Whether a file is untouched.</summary>
    public bool IsUntouched(SourceNode node) =>
        node.Kind == Kind && (node.HardLinkOf ?? node).Length == Length && node.Modified == Modified && node.Changed == Changed
        && node.FileId == FileId;

    /// <summary>Entries with their paths, folders before what is in them.</summary>
    public IEnumerable<(string Path, LaidEntry Entry)> All(string path = "") =>
        Children.SelectMany(c => c.All($"{path}{c.Name}/").Prepend(($"{path}{c.Name}", c)));

    /// <summary>The paths of what has nothing in it.</summary>
    public IEnumerable<WindowsPath> Leaves(WindowsPath at) =>
        Children.Count > 0 ? Children.SelectMany(c => c.Leaves(at.Child(c.Name))) : [at];
}

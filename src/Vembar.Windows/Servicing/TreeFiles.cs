using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;

namespace Vembar.Windows.Servicing;

/// <summary>Looks for files in a tree that is edited.</summary>
internal static class TreeFiles
{
    /// <summary>Whether the file at a path has these bytes.</summary>
    public static bool IsSame(TreeEditor tree, WindowsPath path, byte[] bytes)
    {
        if (tree.Find(path)?.Entry is not { Kind: EntryKind.File } entry || entry.Length != bytes.Length)
            return false;
        return entry.New is { } fresh ? fresh.ToBytes().AsSpan().SequenceEqual(bytes) : entry.Content!.Hash == Blake3.Hash(bytes);
    }

    /// <summary>What matches a pattern; of a folder that matches, the folder alone.</summary>
    public static List<TreeEditor.Node> Matching(TreeEditor tree, string pattern)
    {
        var glob = Glob.Parse(pattern);
        var found = new List<TreeEditor.Node>();
        void Search(TreeEditor.Node folder, WindowsPath path)
        {
            foreach (var child in tree.Children(folder))
            {
                var own = path.Child(child.Entry.Name);
                if (glob.Matches(own.Parts))
                    found.Add(child);
                else if (child.Entry.Kind == EntryKind.Folder && glob.MayMatchBelow(own.Parts))
                    Search(child, own);
            }
        }
        var start = glob.FixedPart();
        if (tree.Find(start) is { Entry.Kind: EntryKind.Folder } from)
            Search(from, start);
        return found;
    }
}

using Vembar.Core.Content;
using Vembar.Core.Sources;
using Vembar.Core.Trees;

namespace Vembar.Core.Servicing.Files;

/// <summary>Files compared with what the tree has.</summary>
internal static class TreeFiles
{
    public static bool IsSame(TreeEditor tree, WindowsPath path, byte[] bytes)
    {
        if (tree.Find(path)?.Entry is not { Kind: EntryKind.File } entry || entry.Length != bytes.Length)
            return false;
        return entry.New is { } fresh ? fresh.ToBytes().AsSpan().SequenceEqual(bytes) : entry.Content!.Hash == Blake3.Hash(bytes);
    }
}

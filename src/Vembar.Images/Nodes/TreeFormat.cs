namespace Vembar.Images.Nodes;

/// <summary>What writers and readers of folder nodes and lists of parts agree on. docs/archive-format.md, "Trees".</summary>
internal static class TreeFormat
{
    public const byte FolderPage = (byte)'F', FolderIndex = (byte)'X', PartList = (byte)'L';

    /// <summary>A file with more parts keeps them in a chunk of their own.</summary>
    public const int InlineParts = 32;
}

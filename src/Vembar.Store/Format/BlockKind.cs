namespace Vembar.Store.Format;

/// <summary>What a block holds.</summary>
public enum BlockKind : byte
{
    /// <summary>Pieces of files.</summary>
    Content = 1,
    /// <summary>Folders, lists of chunks, security descriptors.</summary>
    Tree = 2,
    /// <summary>Image records and the catalogue.</summary>
    Record = 3,
}

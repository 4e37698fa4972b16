namespace Vembar.Store.Format;

/// <summary>When a block is full: its size, expanded, in bytes.</summary>
internal static class BlockSizes
{
    /// <summary>A block of content.</summary>
    public const int Content = 4 << 20;

    /// <summary>A block of folders: small, for a look at one folder reads one block.</summary>
    public const int Tree = 128 << 10;
}

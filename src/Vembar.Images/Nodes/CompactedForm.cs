namespace Vembar.Images.Nodes;

/// <summary>The form in which a file of a volume is kept compacted; its content is the same in each.</summary>
/// <remarks>Source: MS-FSCC, FILE_PROVIDER_EXTERNAL_INFO_V1. The numbers are those of docs/archive-format.md.</remarks>
public enum CompactedForm : byte
{
    /// <summary>It is not.</summary>
    None = 0,
    /// <summary>XPRESS with Huffman codes, in units of 4 KiB.</summary>
    Xpress4K = 1,
    /// <summary>LZX, in units of 32 KiB.</summary>
    Lzx = 2,
    /// <summary>XPRESS with Huffman codes, in units of 8 KiB.</summary>
    Xpress8K = 3,
    /// <summary>XPRESS with Huffman codes, in units of 16 KiB.</summary>
    Xpress16K = 4,
}

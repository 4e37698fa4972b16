namespace Vembar.Native;

/// <summary>What NTFS keeps of a file beside its content.</summary>
/// <param name="Attributes">FILE_ATTRIBUTE_* (MS-FSCC 2.6), the folder bit included.</param>
/// <param name="Created">When it was made, in 100 ns since 1601.</param>
/// <param name="Modified">When its content last changed.</param>
/// <param name="Changed">When anything of it last changed.</param>
/// <param name="Accessed">When it was last read.</param>
/// <param name="IsFolder">Whether it is a folder.</param>
/// <param name="Length">Bytes of the unnamed stream.</param>
/// <param name="Names">Its names, hard links and short ones included.</param>
/// <param name="Streams">Named streams with their lengths in bytes.</param>
/// <param name="Reparse">Reparse tag and data; null for none.</param>
/// <param name="ObjectId">16 to 64 bytes; null for none.</param>
/// <param name="ExtendedAttributes">The list as NTFS keeps it; null for none.</param>
/// <param name="Security">The self-relative security descriptor; null for none.</param>
public sealed record NtfsDescription(
    uint Attributes, long Created, long Modified, long Changed, long Accessed, bool IsFolder, long Length,
    IReadOnlyList<NtfsFileName> Names,
    IReadOnlyList<(string Name, long Length)> Streams, byte[]? Reparse, byte[]? ObjectId, byte[]? ExtendedAttributes, byte[]? Security);

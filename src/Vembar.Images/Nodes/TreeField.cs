namespace Vembar.Images.Nodes;

/// <summary>The fields that an entry of a folder node may have, in the order in which they stand. docs/archive-format.md,
/// "Trees".</summary>
[Flags]
internal enum TreeField : ulong
{
    Attributes = 1 << 0, Modified = 1 << 1, Created = 1 << 2, Changed = 1 << 3, Accessed = 1 << 4, ModifiedRest = 1 << 5,
    Content = 1 << 6, Folder = 1 << 7, LinkTarget = 1 << 8, Security = 1 << 9, Reparse = 1 << 10, ShortName = 1 << 11,
    LinkGroup = 1 << 12, ObjectId = 1 << 13, ExtendedAttributes = 1 << 14, Streams = 1 << 15, Owner = 1 << 16,
    PosixAttributes = 1 << 17, CaseSensitive = 1 << 18, Compaction = 1 << 19,
    All = (1 << 20) - 1,
}

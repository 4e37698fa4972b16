namespace Vembar.Images.Nodes;

/// <summary>What an entry of a folder is.</summary>
public enum EntryKind : byte
{
    /// <summary>A file.</summary>
    File = 1,
    /// <summary>A folder.</summary>
    Folder = 2,
    /// <summary>A symbolic link of Linux. (Windows' own links are files or folders with reparse data.)</summary>
    Link = 3,
}

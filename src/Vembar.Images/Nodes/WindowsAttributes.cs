namespace Vembar.Images.Nodes;

/// <summary>Windows' file attributes (MS-FSCC 2.6).</summary>
[Flags]
public enum WindowsAttributes : uint
{
    /// <summary>None.</summary>
    None = 0,
    /// <summary>Not to be changed.</summary>
    ReadOnly = 0x1,
    /// <summary>Not shown.</summary>
    Hidden = 0x2,
    /// <summary>Of the system.</summary>
    System = 0x4,
    /// <summary>A folder.</summary>
    Directory = 0x10,
    /// <summary>Changed since the last backup.</summary>
    Archive = 0x20,
    /// <summary>Without other attributes.</summary>
    Normal = 0x80,
    /// <summary>Temporary.</summary>
    Temporary = 0x100,
    /// <summary>With holes.</summary>
    Sparse = 0x200,
    /// <summary>With reparse data.</summary>
    Reparse = 0x400,
    /// <summary>Compressed by the file system.</summary>
    Compressed = 0x800,
    /// <summary>Not at hand.</summary>
    Offline = 0x1000,
    /// <summary>Not indexed for searches.</summary>
    NotIndexed = 0x2000,
    /// <summary>Encrypted by the file system.</summary>
    Encrypted = 0x4000,
}

namespace Vembar.Windows.Registry;

/// <summary>Types of registry values (winnt.h).</summary>
public enum RegistryType
{
    /// <summary>No type.</summary>
    None = 0,
    /// <summary>REG_SZ.</summary>
    String = 1,
    /// <summary>REG_EXPAND_SZ.</summary>
    ExpandString = 2,
    /// <summary>REG_BINARY.</summary>
    Binary = 3,
    /// <summary>REG_DWORD.</summary>
    Dword = 4,
    /// <summary>REG_MULTI_SZ.</summary>
    MultiString = 7,
    /// <summary>REG_QWORD.</summary>
    Qword = 11,
}

namespace Vembar.Windows.Registry;

/// <summary>What a change to the registry does.</summary>
public enum RegistryEditKind
{
    /// <summary>Sets a value.</summary>
    Set,
    /// <summary>Sets a value only where there is none.</summary>
    SetIfMissing,
    /// <summary>Sets a value only where there is one.</summary>
    SetIfThere,
    /// <summary>Adds texts to a list of texts.</summary>
    Append,
    /// <summary>Makes a key, and no value.</summary>
    MakeKey,
    /// <summary>Removes a value.</summary>
    DeleteValue,
    /// <summary>Removes a key with all below it.</summary>
    DeleteKey,
    /// <summary>Takes texts out of a list of texts.</summary>
    RemoveTexts,
}

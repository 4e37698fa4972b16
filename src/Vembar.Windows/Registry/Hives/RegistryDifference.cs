namespace Vembar.Windows.Registry.Hives;

/// <summary>A key or a value that two hives do not have alike.</summary>
/// <param name="Key">The key's path in the hive, without the root's name.</param>
/// <param name="Value">The value's name; empty for the default value, null for the key itself.</param>
/// <param name="What">added, removed or changed.</param>
public readonly record struct RegistryDifference(string Key, string? Value, string What);

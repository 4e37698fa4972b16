namespace Vembar.Operations.Diff;

/// <summary>A registry value that differs.</summary>
/// <param name="Hive">The hive's file name.</param>
/// <param name="Key">The key's path in it.</param>
/// <param name="Value">The value's name; empty for the default value, null for the key itself.</param>
/// <param name="What">added, removed or changed.</param>
public sealed record ChangedValue(string Hive, string Key, string? Value, string What);

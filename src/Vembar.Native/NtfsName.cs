namespace Vembar.Native;

/// <summary>A name in a folder of an NTFS volume.</summary>
/// <param name="Name">The name.</param>
/// <param name="Reference">The file's number with its sequence number, as the folder has it.</param>
public readonly record struct NtfsName(string Name, ulong Reference);

namespace Vembar.Native;

/// <summary>Something that a packed file holds.</summary>
/// <param name="Name">Its path, as it stands there.</param>
/// <param name="IsFile">Whether it is a file; else a folder, a symbolic link or a device.</param>
/// <param name="Length">Its length in bytes as the packed file says; -1 when it does not.</param>
/// <param name="LinkTo">The path of the entry before that has its content; null when it has its own.</param>
public readonly record struct PackedEntry(string Name, bool IsFile, long Length, string? LinkTo);

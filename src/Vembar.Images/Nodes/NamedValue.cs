namespace Vembar.Images.Nodes;

/// <summary>A named value that a file system keeps with a file.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Value">Its bytes.</param>
/// <param name="Flags">NTFS: 0x80 when a program that does not know it must not open the file.</param>
public sealed record NamedValue(string Name, byte[] Value, byte Flags = 0);

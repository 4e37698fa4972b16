using Vembar.Images.Nodes;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>Files that a package lays down.</summary>
/// <param name="From">A file of the package, or a folder of it.</param>
/// <param name="To">Where it goes in the image: the file's path, or the folder's.</param>
/// <param name="Attributes">Attributes for each file; null to leave them as they come.</param>
/// <param name="Security">The security descriptor of each file, self-relative; null for that of the folder it goes into.</param>
public sealed record PackageFiles(string From, string To, WindowsAttributes? Attributes, byte[]? Security = null);

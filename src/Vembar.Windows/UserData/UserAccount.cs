using Vembar.Images.Paths;

namespace Vembar.Windows.UserData;

/// <summary>An account that has a profile in an install.</summary>
/// <param name="Name">The name of its profile's folder, which is the account's where nobody renamed it.</param>
/// <param name="Folder">The folder of its profile.</param>
/// <param name="Sid">Its security identifier; empty for a folder among the profiles that no account has.</param>
/// <param name="IsDomain">Whether it is an account of a domain or directory: it is the same one on another install.</param>
/// <param name="Guid">What the directory knows it by; null where the install does not say.</param>
public sealed record UserAccount(string Name, WindowsPath Folder, string Sid, bool IsDomain, string? Guid);

using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

/// <summary>An account of an install of which user files were kept.</summary>
/// <param name="Name">Its name: that of its profile's folder.</param>
/// <param name="Folder">The folder of its profile, as a path in the image.</param>
/// <param name="Sid">Its security identifier; empty for a folder that the install had no account for.</param>
/// <param name="IsDomain">Whether it is an account of a domain or directory, and not of the machine alone.</param>
/// <param name="IsWhole">Whether the whole profile was kept, so that the account can go on with it.</param>
/// <param name="Files">Files of it in the image.</param>
/// <param name="Bytes">Bytes of these.</param>
public sealed record KeptAccount(string Name, string Folder, string Sid, bool IsDomain, bool IsWhole, long Files, long Bytes)
{
    /// <summary>What the directory knows the account by; null where the install did not say.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public string? Guid { get; init; }
}

using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

/// <summary>How the install in an image can start.</summary>
public sealed record ImageFirmware
{
    /// <summary>Whether it has what starts by UEFI.</summary>
    public bool Uefi { get; init; }

    /// <summary>Whether it has what starts by BIOS.</summary>
    public bool Bios { get; init; }

    /// <summary>Its boot files for UEFI, and who signed them: firmware with secure boot on starts only what somebody signed that it
    /// trusts.</summary>
    public IReadOnlyList<BootFile> BootFiles { get; init; } = [];

    /// <summary>Whether all boot files for UEFI are signed and as they were signed.</summary>
    [JsonIgnore]
    public bool IsSigned => BootFiles.Count > 0 && BootFiles.All(f => f.State == BootFile.Signed);
}

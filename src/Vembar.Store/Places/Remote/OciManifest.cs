namespace Vembar.Store.Places.Remote;

/// <summary>A manifest: what an artifact in a registry consists of. OCI image specification 1.1, "Image Manifest". docs/places.md says what
/// ours hold.</summary>
internal sealed record OciManifest
{
    public const string OwnType = "application/vnd.oci.image.manifest.v1+json";

    /// <summary>What we call an archive.</summary>
    public const string ArchiveType = "application/vnd.vembar.archive.v1";

    /// <summary>What we call a consecutive part of an archive's file.</summary>
    public const string SliceType = "application/vnd.vembar.slice.v1";

    /// <summary>What we call the summary.</summary>
    public const string SummaryType = "application/vnd.vembar.summary.v1+json";

    public int SchemaVersion { get; init; } = 2;

    public string MediaType { get; init; } = OwnType;

    public string? ArtifactType { get; init; }

    public OciDescriptor? Config { get; init; }

    public IReadOnlyList<OciDescriptor> Layers { get; init; } = [];

    public IReadOnlyDictionary<string, string>? Annotations { get; init; }
}

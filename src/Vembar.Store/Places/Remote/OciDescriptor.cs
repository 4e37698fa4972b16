namespace Vembar.Store.Places.Remote;

/// <summary>Something in a registry: what it is, by which hash it is known, how long it is. OCI image specification 1.1,
/// "Content Descriptors".</summary>
internal sealed record OciDescriptor
{
    public string MediaType { get; init; } = "";

    public string Digest { get; init; } = "";

    public long Size { get; init; }
}

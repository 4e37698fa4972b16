using Vembar.Store.Hashing;

namespace Vembar.Store.Format;

/// <summary>An image in the catalogue.</summary>
internal sealed record CatalogueEntry
{
    public required int Number { get; init; }

    public required ChunkId Record { get; init; }
}

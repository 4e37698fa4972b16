using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

/// <summary>An image in the catalogue.</summary>
internal sealed record CatalogueEntry
{
    public required int Number { get; init; }

    public required ChunkId Record { get; init; }
}

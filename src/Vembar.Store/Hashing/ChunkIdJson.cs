using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Store.Hashing;

/// <summary>Ids as 64 hexadecimal digits.</summary>
public sealed class ChunkIdJson : JsonConverter<ChunkId>
{
    /// <inheritdoc/>
    public override ChunkId Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        ChunkId.TryParse(reader.GetString(), out var id) ? id : throw new JsonException("an id is not 64 hexadecimal digits");

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, ChunkId value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString());
}

using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Store.Places.Remote;

/// <summary>How tails are spoken of.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
[JsonSerializable(typeof(TailOffer))]
[JsonSerializable(typeof(TailAnswer))]
[JsonSerializable(typeof(TailTaken))]
public sealed partial class TailJson : JsonSerializerContext;

using System.Text.Json.Serialization;

namespace Vembar.Store.Format;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(Catalogue))]
internal sealed partial class RecordJson : JsonSerializerContext;

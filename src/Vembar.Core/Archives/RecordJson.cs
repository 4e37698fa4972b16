using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Core.Archives;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(Catalogue))]
internal sealed partial class RecordJson : JsonSerializerContext;

using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Core.Archives;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(ImageRecord))]
internal sealed partial class ImageRecordJson : JsonSerializerContext;

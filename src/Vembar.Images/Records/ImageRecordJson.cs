using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(ImageRecord))]
internal sealed partial class ImageRecordJson : JsonSerializerContext;

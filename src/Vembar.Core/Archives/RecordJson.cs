using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(ImageRecord))]
[JsonSerializable(typeof(Catalogue))]
internal sealed partial class RecordJson : JsonSerializerContext;

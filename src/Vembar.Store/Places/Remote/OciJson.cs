using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Store.Places.Remote;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(OciManifest))]
[JsonSerializable(typeof(OciSummary))]
[JsonSerializable(typeof(TokenAnswer))]
[JsonSerializable(typeof(HttpProblem))]
internal sealed partial class OciJson : JsonSerializerContext
{
    // Media types hold '+', which is as good as it is.
    static OciJson() => Default = new OciJson(new JsonSerializerOptions(Default.Options)
    {
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    });
}

using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vembar.Station.Interface;

[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
[JsonSerializable(typeof(SignIn))]
internal sealed partial class PageJson : JsonSerializerContext;

using System.Text.Json.Serialization;

namespace Vembar.Operations.Access;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(LoginFile))]
[JsonSerializable(typeof(CommonLogins))]
internal sealed partial class AccessJson : JsonSerializerContext;

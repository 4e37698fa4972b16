using System.Text.Json.Serialization;

namespace Vembar.Operations.UserData;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(RestoreJournalKey))]
internal sealed partial class RestoreJournalKeyJson : JsonSerializerContext;

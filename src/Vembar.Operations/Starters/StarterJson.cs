using System.Text.Json.Serialization;

namespace Vembar.Operations.Starters;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(StarterManifest))]
internal sealed partial class StarterJson : JsonSerializerContext;

using System.Text.Json.Serialization;

namespace Vembar.Operations.Starters;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(StarterManifest))]
[JsonSerializable(typeof(StarterChannels))]
internal sealed partial class StarterJson : JsonSerializerContext;

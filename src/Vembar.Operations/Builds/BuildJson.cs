using System.Text.Json.Serialization;

namespace Vembar.Operations.Builds;

/// <summary>How runs are kept.</summary>
[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(BuildState))]
public sealed partial class BuildJson : JsonSerializerContext;

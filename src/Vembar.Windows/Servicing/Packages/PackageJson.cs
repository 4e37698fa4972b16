using System.Text.Json.Serialization;

namespace Vembar.Windows.Servicing.Packages;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true, UseStringEnumConverter = true)]
[JsonSerializable(typeof(PackageState))]
internal sealed partial class PackageJson : JsonSerializerContext;

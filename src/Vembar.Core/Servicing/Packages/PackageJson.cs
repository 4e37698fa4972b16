using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Content;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Packages;

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true, UseStringEnumConverter = true)]
[JsonSerializable(typeof(PackageState))]
internal sealed partial class PackageJson : JsonSerializerContext;

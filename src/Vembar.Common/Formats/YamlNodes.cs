using YamlDotNet.RepresentationModel;

namespace Vembar.Common.Formats;

/// <summary>Parts of YAML files.</summary>
internal static class YamlNodes
{
    /// <summary>What stands at a key; null when it is not there.</summary>
    public static YamlNode? At(this YamlMappingNode map, string key) => map.Children.TryGetValue(key, out var node) ? node : null;
}

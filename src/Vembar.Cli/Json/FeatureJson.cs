namespace Vembar.Cli.Json;

internal sealed record FeatureJson(string Name, string Title, string Parent, string Package, bool On);

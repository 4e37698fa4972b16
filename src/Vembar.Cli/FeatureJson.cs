namespace Vembar.Cli;

internal sealed record FeatureJson(string Name, string Title, string Parent, string Package, bool On);

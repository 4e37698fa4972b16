using Vembar.Cli.Json;

namespace Vembar.Cli.Commands.Packages;

internal sealed record PackageInfoJson(bool Ok, string Package, string Name, string Version, string Title, string Kind,
    IReadOnlyList<string> Requires, IReadOnlyList<string> Replaces, IReadOnlyList<FeatureJson> Features, int Files,
    IReadOnlyList<string> Problems);

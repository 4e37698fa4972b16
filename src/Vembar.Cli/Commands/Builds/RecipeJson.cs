namespace Vembar.Cli.Commands.Builds;

internal sealed record RecipeJson(string File, bool Ok, string Title, string From, string Archive, string Name, string Version,
    IReadOnlyDictionary<string, string> Variables, IReadOnlyList<string> Orders, IReadOnlyList<string> Missing);

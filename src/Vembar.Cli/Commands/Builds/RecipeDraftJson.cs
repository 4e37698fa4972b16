namespace Vembar.Cli.Commands.Builds;

internal sealed record RecipeDraftJson(string? WrittenTo, string Text);

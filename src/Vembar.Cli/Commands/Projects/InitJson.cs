namespace Vembar.Cli.Commands.Projects;

internal sealed record InitJson(string? WrittenTo, string? Schema);

namespace Vembar.Cli.Commands.Check;

internal sealed record ExpectationDraftJson(string? WrittenTo, string Text);

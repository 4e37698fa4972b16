namespace Vembar.Cli.Commands.Answers;

internal sealed record AnswerFindingJson(string Severity, int Line, string Text);

namespace Vembar.Cli;

internal sealed record AnswerFindingJson(string Severity, int Line, string Text);

namespace Vembar.Cli;

internal sealed record AnswersJson(string File, bool Ok, IReadOnlyList<AnswerFindingJson> Findings, int PasswordsHidden, string? WrittenTo);

namespace Vembar.Cli.Commands.Answers;

internal sealed record AnswersJson(string File, bool Ok, IReadOnlyList<AnswerFindingJson> Findings, int PasswordsHidden, string? WrittenTo);

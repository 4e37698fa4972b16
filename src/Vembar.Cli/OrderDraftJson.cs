namespace Vembar.Cli;

internal sealed record OrderDraftJson(string? WrittenTo, int Changes, int Remarks, string Text);

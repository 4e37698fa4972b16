namespace Vembar.Cli.Commands.Orders;

internal sealed record OrderDraftJson(string? WrittenTo, int Changes, int Remarks, string Text);

namespace Vembar.Cli.Commands.Orders;

internal sealed record OrderProblemJson(string Kind, string What, string Problem);

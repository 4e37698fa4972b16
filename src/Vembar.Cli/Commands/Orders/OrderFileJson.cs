namespace Vembar.Cli.Commands.Orders;

internal sealed record OrderFileJson(string Kind, string Path, bool IsThere);

namespace Vembar.Cli;

internal sealed record OrderProblemJson(string Kind, string What, string Problem);

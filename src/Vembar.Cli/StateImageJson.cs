namespace Vembar.Cli;

internal sealed record StateImageJson(int Number, string Name);

namespace Vembar.Cli.Commands.History;

internal sealed record StateImageJson(int Number, string Name, string Version);

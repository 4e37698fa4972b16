namespace Vembar.Cli.Commands.Show;

internal sealed record AppJson(string Name, string Version, string FullName);

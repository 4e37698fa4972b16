namespace Vembar.Cli;

internal sealed record AppJson(string Name, string Version, string FullName);

namespace Vembar.Cli.Commands.Demo;

internal sealed record DemoCheckJson(string What, bool Ok, string Found);

namespace Vembar.Cli;

internal sealed record DemoCheckJson(string What, bool Ok, string Found);

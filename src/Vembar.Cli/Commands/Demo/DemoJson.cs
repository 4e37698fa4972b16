namespace Vembar.Cli.Commands.Demo;

internal sealed record DemoJson(string Folder, long Files, long Bytes, double Seconds, bool Ok, IReadOnlyList<DemoCheckJson> Checks);

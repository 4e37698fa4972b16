namespace Vembar.Cli.Commands.Survey;

internal sealed record DiskJson(string Scheme, string Format, long Bytes, int SectorSize);

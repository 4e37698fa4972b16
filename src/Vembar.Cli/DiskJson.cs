namespace Vembar.Cli;

internal sealed record DiskJson(string Scheme, string Format, long Bytes, int SectorSize);

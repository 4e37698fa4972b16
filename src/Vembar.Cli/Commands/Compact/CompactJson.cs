namespace Vembar.Cli.Commands.Compact;

internal sealed record CompactJson(string Archive, int Images, long BytesBefore, long Bytes, double Seconds);

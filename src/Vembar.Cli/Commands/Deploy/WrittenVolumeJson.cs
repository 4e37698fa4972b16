namespace Vembar.Cli.Commands.Deploy;

internal sealed record WrittenVolumeJson(int Number, string Role, long Start, long Bytes, string FileSystem, string Label);

namespace Vembar.Cli.Commands.Places;

internal sealed record CacheJson(string Folder, long Bytes, int Blocks, long Limit, long? Cleared);

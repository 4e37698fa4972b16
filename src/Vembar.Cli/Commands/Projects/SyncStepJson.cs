namespace Vembar.Cli.Commands.Projects;

internal sealed record SyncStepJson(string What, string Image, bool Done, long Bytes, string Why);

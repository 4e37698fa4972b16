namespace Vembar.Cli.Commands.Projects;

internal sealed record SyncJson(bool Plan, IReadOnlyList<SyncSiteJson> Sites);

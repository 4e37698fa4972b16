namespace Vembar.Cli.Commands.Projects;

internal sealed record SitesJson(IReadOnlyList<SiteJson> Sites);

using Vembar.Cli.Json;

namespace Vembar.Cli.Commands.Projects;

internal sealed record SiteJson(string Name, string Place, bool Ok, DateTime? Compared, IReadOnlyList<SiteImagesJson> Images,
    ErrorBody? Error);

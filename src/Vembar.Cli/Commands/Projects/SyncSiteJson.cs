using Vembar.Cli.Json;

namespace Vembar.Cli.Commands.Projects;

internal sealed record SyncSiteJson(string Name, string Place, bool Ok, IReadOnlyList<SyncStepJson> Steps, double Seconds,
    ErrorBody? Error);

using Vembar.Cli.Json;

namespace Vembar.Cli.Commands.Drivers;

internal sealed record CoverageJson(bool Ok, string Architecture, int Build, int Drivers, IReadOnlyList<ModelJson> Models,
    IReadOnlyList<ChangeJson> Passed);

namespace Vembar.Cli.Commands.Drivers;

internal sealed record DriversJson(bool Ok, IReadOnlyList<PackageJson> Packages);

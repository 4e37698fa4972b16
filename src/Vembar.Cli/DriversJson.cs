namespace Vembar.Cli;

internal sealed record DriversJson(bool Ok, IReadOnlyList<PackageJson> Packages);

namespace Vembar.Cli.Commands.Drivers;

internal sealed record ModelJson(string Model, IReadOnlyList<CoveredJson> Devices);

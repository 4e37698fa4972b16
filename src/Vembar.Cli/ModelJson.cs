namespace Vembar.Cli;

internal sealed record ModelJson(string Model, IReadOnlyList<CoveredJson> Devices);

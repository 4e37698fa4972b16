namespace Vembar.Cli.Commands.Drivers;

internal sealed record CoveredJson(DeviceJson Device, MatchJson? Chosen, IReadOnlyList<MatchJson> Others, IReadOnlyList<MatchJson> Beside);

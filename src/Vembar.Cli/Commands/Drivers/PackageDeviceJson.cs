namespace Vembar.Cli.Commands.Drivers;

internal sealed record PackageDeviceJson(string Description, IReadOnlyList<string> Ids);

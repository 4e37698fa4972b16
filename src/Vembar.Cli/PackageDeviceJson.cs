namespace Vembar.Cli;

internal sealed record PackageDeviceJson(string Description, IReadOnlyList<string> Ids);

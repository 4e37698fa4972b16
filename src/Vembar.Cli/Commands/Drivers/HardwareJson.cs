namespace Vembar.Cli.Commands.Drivers;

internal sealed record HardwareJson(string Model, IReadOnlyList<DeviceJson> Devices, string? WrittenTo);

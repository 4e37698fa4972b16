namespace Vembar.Cli;

internal sealed record HardwareJson(string Model, IReadOnlyList<DeviceJson> Devices, string? WrittenTo);

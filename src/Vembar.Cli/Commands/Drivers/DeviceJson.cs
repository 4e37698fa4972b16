namespace Vembar.Cli.Commands.Drivers;

internal sealed record DeviceJson(string Name, IReadOnlyList<string> HardwareIds, IReadOnlyList<string> CompatibleIds, bool Needed,
    bool Boot);

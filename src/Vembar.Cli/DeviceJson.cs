namespace Vembar.Cli;

internal sealed record DeviceJson(string Name, IReadOnlyList<string> HardwareIds, IReadOnlyList<string> CompatibleIds, bool Needed,
    bool Boot);

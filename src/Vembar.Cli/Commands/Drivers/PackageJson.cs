namespace Vembar.Cli.Commands.Drivers;

internal sealed record PackageJson(
    string Path, string Problem, string Class, string Provider, string Version, DateOnly? Date, IReadOnlyList<string> Architectures,
    int Devices, bool BootCritical, SignatureJson? Signature,
    IReadOnlyList<string> MissingFiles, string SameAs, string OlderThan, IReadOnlyList<string> LeftToWindows, long Bytes,
    IReadOnlyList<PackageDeviceJson> DeviceList, bool Primitive, string Inf);

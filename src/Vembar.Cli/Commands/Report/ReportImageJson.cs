namespace Vembar.Cli.Commands.Report;

/// <summary>Shared has the bytes that the image has in common with each of the images, in their order; with itself, all that it
/// holds.</summary>
internal sealed record ReportImageJson(int Number, string Name, string Version, string Source, int? MadeFrom,
    IReadOnlyList<string> Channels, long Bytes, long BytesAdded, long BytesAlone, IReadOnlyList<long> Shared, int? Programs, int? Drivers,
    int? Packages, int? Features);

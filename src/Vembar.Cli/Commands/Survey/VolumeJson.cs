using Vembar.Cli.Json;
using Vembar.Images.Records;
using Vembar.Volumes.Sources;

namespace Vembar.Cli.Commands.Survey;

internal sealed record VolumeJson(
    int Number, long Start, long Bytes, string FileSystem, string Label, long? BytesUsed, string Role, string Problem,
    WindowsJson? Windows, long? Files, long? BytesTaken, IReadOnlyList<ExcludedEntry>? LeftOut, CompactedCount? Compacted);

using Vembar.Images.Records;

namespace Vembar.Cli.Commands.Deploy;

internal sealed record DeployJson(ImageRecord Image, string Target, long Files, long Bytes, double Seconds,
    IReadOnlyList<WrittenVolumeJson> Volumes, IReadOnlyList<string> Kept, bool Verified, IReadOnlyList<string> Differences,
    IReadOnlyList<string> Warnings, long Resumed, CompactedCount Compacted);

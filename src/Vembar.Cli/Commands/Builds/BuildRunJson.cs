using Vembar.Operations.Builds;

namespace Vembar.Cli.Commands.Builds;

internal sealed record BuildRunJson(string? Folder, BuildState Run, IReadOnlyList<double>? UsualSeconds,
    long? BytesFree);

using Vembar.Operations.Starters;

namespace Vembar.Cli.Commands.Starters;

internal sealed record StarterJson(string Folder, StarterManifest Starter, long Bytes, IReadOnlyList<string> Warnings)
{
    /// <summary>What it is in use as, where that was asked.</summary>
    public IReadOnlyList<string> Channels { get; init; } = [];
}

using Vembar.Operations.Starters;

namespace Vembar.Cli.Commands.Starters;

internal sealed record StarterJson(string Folder, StarterManifest Starter, long Bytes, IReadOnlyList<string> Warnings);

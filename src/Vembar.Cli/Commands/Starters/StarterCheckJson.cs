using Vembar.Operations.Starters;

namespace Vembar.Cli.Commands.Starters;

internal sealed record StarterCheckJson(bool Ok, string Folder, string Name, string Version, IReadOnlyList<StarterDevice> Devices);

using Vembar.Volumes.Machines;

namespace Vembar.Operations.Builds;

/// <summary>How a copy of the reference's disk is made ready.</summary>
/// <param name="Machine">The machine that is started from it; null where a program does it.</param>
/// <param name="Run">The program and its arguments, in which {disk} is the copy; empty for a machine.</param>
/// <param name="Limit">How long it may take.</param>
public sealed record RecipePreparation(VirtualMachineOptions? Machine, IReadOnlyList<string> Run, TimeSpan Limit)
{
    /// <summary>Where the copy's path stands in a program's arguments.</summary>
    public const string Disk = "{disk}";
}

using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.FirstStart;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>What a package, or one of its features, changes.</summary>
public sealed record PackagePart
{
    /// <summary>Files to lay down.</summary>
    public IReadOnlyList<PackageFiles> Files { get; init; } = [];

    /// <summary>Paths and patterns to take away.</summary>
    public IReadOnlyList<string> Remove { get; init; } = [];

    /// <summary>.reg files of the package.</summary>
    public IReadOnlyList<string> Registry { get; init; } = [];

    /// <summary>Services and a language, as changes to SYSTEM below the control set.</summary>
    public IReadOnlyList<RegistryEdit> System { get; init; } = [];

    /// <summary>Commands for the first start.</summary>
    public IReadOnlyList<FirstStartCommand> FirstStart { get; init; } = [];
}

using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>A step that was made, and how it is taken back.</summary>
internal sealed record JournalStep
{
    /// <summary>folder (made), added, replaced, removed, registry or first-start.</summary>
    public required string Kind { get; init; }

    /// <summary>The path; a command's name.</summary>
    public string Path { get; init; } = "";

    /// <summary>Where what was there before is kept, below the package's record.</summary>
    public string Saved { get; init; } = "";

    /// <summary>What the registry gets back, in order.</summary>
    public IReadOnlyList<RegistryEdit> Undo { get; init; } = [];
}

namespace Vembar.Windows.Servicing.Packages;

/// <summary>What a package did to an image.</summary>
internal sealed record PackageState
{
    /// <summary>What it changed itself.</summary>
    public IReadOnlyList<JournalStep> Steps { get; init; } = [];

    /// <summary>What its features changed that are on, by their names.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<JournalStep>> Features { get; init; } =
        new Dictionary<string, IReadOnlyList<JournalStep>>();

    /// <summary>Packages whose place it took ("shelfmark 7.3").</summary>
    public IReadOnlyList<string> Replaced { get; init; } = [];

    /// <summary>Hives as they were before.</summary>
    public IReadOnlyList<StoredHive> Hives { get; init; } = [];
}

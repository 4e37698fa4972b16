using Vembar.Images.Paths;

namespace Vembar.Volumes.Sources;

/// <summary>How a source is walked over.</summary>
public sealed record WalkOptions
{
    /// <summary>What to leave out.</summary>
    public required Exclusions Exclusions { get; init; }

    /// <summary>A file that is never captured, wherever it turns up: the archive that is being written; null for none.</summary>
    public string? Avoid { get; init; }

    /// <summary>Whether what cannot be read is left out and told, instead of ending the walk.</summary>
    public bool SkipUnreadable { get; init; }

    /// <summary>Told the number of files seen so far, now and then.</summary>
    public Action<long>? Seen { get; init; }

    /// <summary>An earlier image to compare with; null for none.</summary>
    public EarlierImage? Earlier { get; init; }

    /// <summary>Whether every file with content will be opened: then what opening it tells is not asked before.</summary>
    public bool OpensAll { get; init; }

    /// <summary>How many folders are looked into at once.</summary>
    public int Workers { get; init; } = Environment.ProcessorCount;
}

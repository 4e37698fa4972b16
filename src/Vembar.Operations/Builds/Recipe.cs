using Vembar.Operations.Capture;
using Vembar.Store.Compression;

namespace Vembar.Operations.Builds;

/// <summary>How an image is made: docs/recipes.md. Paths are whole, variables are filled in.</summary>
public sealed record Recipe
{
    /// <summary>The file.</summary>
    public required string Path { get; init; }

    /// <summary>What its runs are filed under: the file's name without its ending.</summary>
    public required string Name { get; init; }

    /// <summary>What it makes, for people.</summary>
    public string Title { get; init; } = "";

    /// <summary>What it begins with: a disk, a folder, or an image.</summary>
    public required string From { get; init; }

    /// <summary>How a copy of the disk is made ready; null where it is captured as it is.</summary>
    public RecipePreparation? Prepare { get; init; }

    /// <summary>A file of the organisation's own readiness rules; null for none.</summary>
    public string? Rules { get; init; }

    /// <summary>Findings of these names do not stop it; "all" for any.</summary>
    public IReadOnlyList<string> Accept { get; init; } = [];

    /// <summary>Whether it looks if the install may be captured.</summary>
    public bool ChecksReady { get; init; } = true;

    /// <summary>The archive.</summary>
    public required string Archive { get; init; }

    /// <summary>The image's name.</summary>
    public required string ImageName { get; init; }

    /// <summary>The image's version; empty for the next one.</summary>
    public string Version { get; init; } = "";

    /// <summary>The image's edition; null for what the install says.</summary>
    public string? Edition { get; init; }

    /// <summary>A remark.</summary>
    public string Note { get; init; } = "";

    /// <summary>How hard to compress.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>Patterns of what to leave out.</summary>
    public IReadOnlyList<string> LeaveOut { get; init; } = [];

    /// <summary>Work orders in their order.</summary>
    public IReadOnlyList<RecipeOrder> Service { get; init; } = [];

    /// <summary>Files of expectations.</summary>
    public IReadOnlyList<string> Expect { get; init; } = [];

    /// <summary>The key and the certificate of who signs it; null for nobody.</summary>
    public RecipeSignature? Sign { get; init; }

    /// <summary>Channels that are to point at it.</summary>
    public IReadOnlyList<string> Channels { get; init; } = [];

    /// <summary>In how many days the version before it is retired; null for never.</summary>
    public int? RetireBefore { get; init; }

    /// <summary>Sites that get it, by their names in the project file; "all" for all.</summary>
    public IReadOnlyList<string> Sync { get; init; } = [];

    /// <summary>How many versions are kept, this one among them; null for all.</summary>
    public int? Keep { get; init; }

    /// <summary>Who is told how it went.</summary>
    public IReadOnlyList<RecipeTell> Tell { get; init; } = [];

    /// <summary>What its variables are, built-in ones that were used included.</summary>
    public IReadOnlyDictionary<string, string> Variables { get; init; } = new Dictionary<string, string>();

    /// <summary>The recipe with its variables filled in, as YAML.</summary>
    public string Expanded { get; init; } = "";

    /// <summary>Whether it begins with an image of an archive.</summary>
    public bool IsFromImage => IsImage(From);

    /// <summary>Whether a text names an image, also one of an archive that is not there.</summary>
    internal static bool IsImage(string from) =>
        ImageReference.IsImage(from) || from.Contains('#', StringComparison.Ordinal) && !System.IO.Path.Exists(from);
}

namespace Vembar.Operations.Builds;

/// <summary>What a recipe is read with.</summary>
public sealed record RecipeOptions
{
    /// <summary>Texts for its variables, in the place of its own.</summary>
    public IReadOnlyDictionary<string, string> Variables { get; init; } = new Dictionary<string, string>();

    /// <summary>The day.</summary>
    public required DateOnly Today { get; init; }

    /// <summary>The archive where the recipe names none; null for none.</summary>
    public string? Archive { get; init; }

    /// <summary>The build of the Windows in what it begins with; null where that cannot be told.</summary>
    public Func<string, string?> BuildOf { get; init; } = _ => null;

    /// <summary>The next version of a name in an archive.</summary>
    public Func<string, string, string> NextVersion { get; init; } = (_, _) => "";
}

namespace Vembar.Operations.Builds;

/// <summary>A run of a recipe, as its folder keeps it (run.json).</summary>
public sealed record BuildState
{
    /// <summary>The form of the file.</summary>
    public int Format { get; init; } = 1;

    /// <summary>The recipe's file.</summary>
    public required string Recipe { get; init; }

    /// <summary>What its runs are filed under.</summary>
    public required string Name { get; init; }

    /// <summary>Which run: the day and a number.</summary>
    public required string Run { get; init; }

    /// <summary>What is made.</summary>
    public string Title { get; init => field = value ?? ""; } = "";

    /// <summary>Who had it done.</summary>
    public string By { get; init => field = value ?? ""; } = "";

    /// <summary>When it began, UTC.</summary>
    public DateTime Began { get; init; }

    /// <summary>When it ended, UTC; null before.</summary>
    public DateTime? Ended { get; init; }

    /// <summary>How it ended.</summary>
    public BuildOutcome Outcome { get; init; }

    /// <summary>The archive.</summary>
    public string Archive { get; init => field = value ?? ""; } = "";

    /// <summary>The image's name.</summary>
    public string ImageName { get; init => field = value ?? ""; } = "";

    /// <summary>The image's version.</summary>
    public string Version { get; init => field = value ?? ""; } = "";

    /// <summary>The image's number; null before it is in the archive.</summary>
    public int? Image { get; init; }

    /// <summary>The root of its tree; empty before it is in the archive.</summary>
    public string Root { get; init => field = value ?? ""; } = "";

    /// <summary>By how many bytes the archive grew.</summary>
    public long BytesAdded { get; init; }

    /// <summary>What is done.</summary>
    public IReadOnlyList<BuildStep> Steps { get; init => field = value ?? []; } = [];

    /// <summary>Why it failed; empty where it did not.</summary>
    public string Problem { get; init => field = value ?? ""; } = "";

    /// <summary>What helps.</summary>
    public string Hint { get; init => field = value ?? ""; } = "";

    /// <summary>What it changed against the version before; null where there is none.</summary>
    public BuildChanges? Changes { get; init; }

    /// <summary>How long it took, in seconds.</summary>
    public double Seconds { get; init; }

    /// <summary>Whether nothing had to be made anew.</summary>
    public bool IsReused => Steps.Count > 0 && Steps.All(s => s.State is BuildStepState.Reused or BuildStepState.Skipped);
}

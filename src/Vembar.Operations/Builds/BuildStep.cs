using System.Text.Json.Serialization;

namespace Vembar.Operations.Builds;

/// <summary>A step of a build, as its run keeps it.</summary>
public sealed record BuildStep
{
    /// <summary>Which step: prepare, ready, capture, service, expect, sign, add, sync, tell.</summary>
    public required string Name { get; init; }

    /// <summary>With what: an order's file, a site.</summary>
    public string What { get; init; } = "";

    /// <summary>How far it is.</summary>
    public BuildStepState State { get; init; }

    /// <summary>When it began, UTC; null before.</summary>
    public DateTime? Began { get; init; }

    /// <summary>How long it took.</summary>
    public double Seconds { get; init; }

    /// <summary>What came of it, in one line.</summary>
    public string Outcome { get; init => field = value ?? ""; } = "";

    /// <summary>What else is to be known.</summary>
    public IReadOnlyList<string> Details { get; init => field = value ?? []; } = [];

    /// <summary>The hash of all that it depends on.</summary>
    public string Inputs { get; init => field = value ?? ""; } = "";

    /// <summary>The number of the image that it made, in the run's own archive; null for none.</summary>
    public int? Image { get; init; }

    /// <summary>Whether its work counts: it was done, or need not be.</summary>
    [JsonIgnore]
    public bool IsThere => State is BuildStepState.Done or BuildStepState.Reused or BuildStepState.Skipped;
}

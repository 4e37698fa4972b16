namespace Vembar.Operations.Stations.Contract;

/// <summary>Somebody approves a machine, or says what it is to become. What is null stays as it is.</summary>
public sealed record Approval
{
    /// <summary>The computer's name.</summary>
    public string? Name { get; init; }

    /// <summary>The site.</summary>
    public string? Site { get; init; }

    /// <summary>The image; see <see cref="Assignment.Image"/>.</summary>
    public string? Image { get; init; }

    /// <summary>How the disk is divided.</summary>
    public string? Layout { get; init; }

    /// <summary>The file of expectations.</summary>
    public string? Expectations { get; init; }

    /// <summary>What is done about files that users made on the machine: "keep", "none", or empty for what the station does.</summary>
    public string? UserFiles { get; init; }

    /// <summary>The starter; see <see cref="Assignment.Starter"/>.</summary>
    public string? Starter { get; init; }

    /// <summary>Texts for what stands between {{ and }} in the answer file.</summary>
    public IReadOnlyDictionary<string, string>? Fill { get; init; }

    /// <summary>Refusals that are set aside, by their words; administrators alone may.</summary>
    public IReadOnlyList<string> Accept { get; init; } = [];

    /// <summary>The machine's version that this is meant for; null for whichever.</summary>
    public long? Version { get; init; }
}

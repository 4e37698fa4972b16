using Vembar.Operations.Project;

namespace Vembar.Operations.Builds;

/// <summary>Which recipe to run, and how.</summary>
public sealed record BuildRequest
{
    /// <summary>Reads the recipe, with the version that it is to have where it names none; null for the next.</summary>
    public required Func<string?, Recipe> Read { get; init; }

    /// <summary>The folder of all builds.</summary>
    public required string Builds { get; init; }

    /// <summary>The run to go on with; null for a new one.</summary>
    public string? Resume { get; init; }

    /// <summary>Whether the run keeps what it needed while it went on.</summary>
    public bool KeepArtifacts { get; init; }

    /// <summary>Certificates that are trusted for drivers: files and folders.</summary>
    public IReadOnlyList<string> Trust { get; init; } = [];

    /// <summary>The places that keep copies.</summary>
    public IReadOnlyList<Site> Sites { get; init; } = [];

    /// <summary>Channels that there are; empty for any.</summary>
    public IReadOnlyList<string> KnownChannels { get; init; } = [];

    /// <summary>The file that remembers when sites were compared last; null for none.</summary>
    public string? Memory { get; init; }

    /// <summary>Asked for the password of an encrypted key.</summary>
    public Func<string> Password { get; init; } = () => "";

    /// <summary>How long to wait for another writer of the archive.</summary>
    public TimeSpan Wait { get; init; }

    /// <summary>Told when something of the run changed.</summary>
    public Action<BuildState, BuildRun> Changed { get; init; } = (_, _) => { };

    /// <summary>Whether to tell only what would be done.</summary>
    public bool PlanOnly { get; init; }
}

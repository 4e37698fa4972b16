using Vembar.Common;

namespace Vembar.Operations.Builds;

/// <summary>How a build ended.</summary>
/// <param name="State">The run.</param>
/// <param name="Folder">Its folder; null for a plan.</param>
/// <param name="Failure">Why it failed; null where it did not.</param>
/// <param name="IsRefused">Whether it failed because what was made is not as it should be: findings, expectations, refused changes.</param>
public sealed record BuildResult(BuildState State, string? Folder, VembarException? Failure, bool IsRefused)
{
    /// <summary>How long each step took in earlier runs, in seconds; negative where that is not known.</summary>
    public IReadOnlyList<double> Usual { get; init; } = [];

    /// <summary>Of a plan: how many bytes there are free where runs are kept.</summary>
    public long Free { get; init; }
}

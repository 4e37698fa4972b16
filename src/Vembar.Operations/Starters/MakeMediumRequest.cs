namespace Vembar.Operations.Starters;

/// <summary>What a medium that starts machines is made of.</summary>
public sealed record MakeMediumRequest
{
    /// <summary>The starter's folder.</summary>
    public required string Starter { get; init; }

    /// <summary>The file to make.</summary>
    public required string Output { get; init; }

    /// <summary>The station that machines join; null for the one that the starter knows, or that somebody types.</summary>
    public string? Station { get; init; }

    /// <summary>Images that it carries, to be deployed with no network.</summary>
    public IReadOnlyList<ImageReference> Images { get; init; } = [];

    /// <summary>Whether somebody signs in at the machine.</summary>
    public bool IsAttended { get; init; }

    /// <summary>What else stands on the kernel's command line.</summary>
    public string Arguments { get; init; } = "";

    /// <summary>Where packages are kept.</summary>
    public required string Cache { get; init; }
}

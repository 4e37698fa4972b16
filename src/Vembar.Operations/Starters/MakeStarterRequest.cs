namespace Vembar.Operations.Starters;

/// <summary>What a starter is made of.</summary>
public sealed record MakeStarterRequest
{
    /// <summary>The folder to make.</summary>
    public required string Output { get; init; }

    /// <summary>What it is called.</summary>
    public string Name { get; init; } = "starter";

    /// <summary>Its version; null for the day.</summary>
    public string? Version { get; init; }

    /// <summary>The package of the kernel; null for Debian's newest.</summary>
    public string? Kernel { get; init; }

    /// <summary>The folder of the built program, with what belongs to it.</summary>
    public required string Program { get; init; }

    /// <summary>The station's address; null for the one that the kernel's command line names.</summary>
    public string? Station { get; init; }

    /// <summary>The certificate (PEM) of the station's authority; null for none but what the command line names.</summary>
    public string? Authority { get; init; }

    /// <summary>A folder of further tools; null for none.</summary>
    public string? Tools { get; init; }

    /// <summary>A script that is run before the machine joins; null for none.</summary>
    public string? Script { get; init; }

    /// <summary>A folder of firmware files; null for none.</summary>
    public string? Firmware { get; init; }

    /// <summary>Hardware profiles whose devices alone it has modules for; none for all hardware.</summary>
    public IReadOnlyList<string> Only { get; init; } = [];

    /// <summary>Where packages are kept.</summary>
    public required string Cache { get; init; }
}

namespace Vembar.Store.Places.Remote;

/// <summary>How places elsewhere are talked to.</summary>
public sealed record PlaceOptions
{
    /// <summary>Finds out who one is there.</summary>
    public Func<Uri, PlaceCredentials?> Credentials { get; init; } = _ => null;

    /// <summary>A file of certificates that are trusted beside the system's; null for none.</summary>
    public string? CaFile { get; init; }

    /// <summary>Whether a connection may be neither encrypted nor its certificate looked at.</summary>
    public bool Insecure { get; init; }

    /// <summary>Keeps what was read; null for nothing.</summary>
    public IBlockStore? Blocks { get; init; }

    /// <summary>Where what is written lies until it is published; kept there where that fails.</summary>
    public required string SpoolFolder { get; init; }

    /// <summary>How long nothing may come before a request is given up.</summary>
    public TimeSpan Patience { get; init; } = TimeSpan.FromSeconds(60);

    /// <summary>How often a request is made again that failed for a reason that may pass.</summary>
    public int Retries { get; init; } = 4;

    /// <summary>Whether a host that does not answer at all is tried as often as one that breaks off.</summary>
    public bool IsPatient { get; init; }

    /// <summary>Ends all that is under way, also what nobody else can end.</summary>
    public CancellationToken Cancellation { get; init; }

    /// <summary>Waits between retries and timeouts go by this.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    /// <summary>Told how much of what is sent has gone, and of how much.</summary>
    public Action<long, long>? Sent { get; init; }
}

using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Machines;

/// <summary>A machine as it is kept.</summary>
public sealed record MachineRow
{
    /// <summary>What the station calls it.</summary>
    public required string Id { get; init; }

    /// <summary>What it is known by: "uuid:…", "serial:…" or "mac:…".</summary>
    public required string Identifier { get; init; }

    /// <summary>Where it is on its way.</summary>
    public required MachineState State { get; init; }

    /// <summary>Counts the changes of it.</summary>
    public long Version { get; init; }

    /// <summary>The hash of the key that it was given; null for none.</summary>
    public string? KeyHash { get; init; }

    /// <summary>When it was last heard of, UTC; null for never.</summary>
    public DateTime? Seen { get; init; }

    /// <summary>The rest.</summary>
    public required MachineDocument Document { get; init; }

    /// <summary>Texts that are filled in, until the machine has them; null for none.</summary>
    public IReadOnlyDictionary<string, string>? Fills { get; init; }

    /// <summary>Its name for people.</summary>
    public string DisplayName => Document.Assignment.Name.Length > 0 ? Document.Assignment.Name : Id;
}

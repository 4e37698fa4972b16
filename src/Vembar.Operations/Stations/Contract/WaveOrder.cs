namespace Vembar.Operations.Stations.Contract;

/// <summary>Deploying with others: where the wave is heard.</summary>
public sealed record WaveOrder
{
    /// <summary>Which wave.</summary>
    public required string Id { get; init; }

    /// <summary>The group's address.</summary>
    public string Group { get; init; } = "";

    /// <summary>Its port.</summary>
    public int Port { get; init; }

    /// <summary>The address that the station sends from; what others send is not taken.</summary>
    public string Source { get; init; } = "";
}

using System.Globalization;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Waves;

/// <summary>A wave as it is kept.</summary>
public sealed record WaveRow
{
    /// <summary>Its number.</summary>
    public required long Number { get; init; }

    /// <summary>Where it is on its way.</summary>
    public required WaveState State { get; init; }

    /// <summary>Counts its changes.</summary>
    public required long Version { get; init; }

    /// <summary>The address of the station that sends it.</summary>
    public required string Station { get; init; }

    /// <summary>The rest.</summary>
    public required WaveDocument Document { get; init; }

    /// <summary>Its number, as people say it.</summary>
    public string Id => Number.ToString(CultureInfo.InvariantCulture);

    private const int Ports = 100;

    /// <summary>The port that it is sent to.</summary>
    public int Port => Document.Port + (int)(Number % Ports);
}

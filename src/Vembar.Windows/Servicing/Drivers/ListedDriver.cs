namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver package as an image's driver database lists it.</summary>
/// <param name="Inf">The name it was published under (oem3.inf).</param>
/// <param name="OriginalInf">Its own INF's name.</param>
/// <param name="StoreFolder">Its folder in the driver store.</param>
/// <param name="Provider">Who provides it.</param>
/// <param name="Version">Its version.</param>
/// <param name="Date">Its date.</param>
/// <param name="Services">The services its configurations name.</param>
/// <param name="Ids">The hardware and compatible ids that it serves.</param>
public sealed record ListedDriver(string Inf, string OriginalInf, string StoreFolder, string Provider, string Version, DateOnly? Date,
    IReadOnlyList<string> Services, IReadOnlyList<string> Ids)
{
    /// <summary>The id of its class; empty when the database does not say.</summary>
    public Guid ClassGuid { get; init; }

    /// <summary>Whether it was added to Windows, or came with it.</summary>
    public bool IsAdded => DriverDatabase.Number(Inf) >= 0;
}

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>
/// Tells versions of one driver from drivers that only share a name: vendors ship packages of one INF name for different devices, and one
/// is
/// older than another only where that serves all that it serves.
/// </summary>
internal static class DriverVersions
{
    /// <summary>Whether a package can stand in for another one.</summary>
    /// <param name="newer">The ids that it serves.</param>
    /// <param name="older">The ids that the other one serves.</param>
    /// <param name="wanted">The ids that count; empty for all.</param>
    public static bool Covers(IEnumerable<string> newer, IEnumerable<string> older, IReadOnlySet<string> wanted)
    {
        var served = newer.ToHashSet(StringComparer.OrdinalIgnoreCase);
        return older.Where(id => wanted.Count == 0 || wanted.Contains(id)).All(served.Contains);
    }

    /// <summary>All ids that a package serves.</summary>
    public static IEnumerable<string> IdsOf(FittedDriver driver) => driver.Devices.SelectMany(d => d.Ids);

    /// <summary>The ids of the devices of some models.</summary>
    public static HashSet<string> IdsOf(IEnumerable<HardwareProfile> models) =>
        models.SelectMany(m => m.Devices).SelectMany(d => d.HardwareIds.Concat(d.CompatibleIds))
        .ToHashSet(StringComparer.OrdinalIgnoreCase);
}

using System.Globalization;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver that fits a device.</summary>
/// <param name="Driver">The driver.</param>
/// <param name="Description">What it calls the device.</param>
/// <param name="Id">The id by which it fits.</param>
/// <param name="Kind">0 when a hardware id of both meets, 1 the device's hardware id and the driver's compatible one, 2 the other way
/// round, 3 compatible ids of both.</param>
/// <param name="DevicePlace">The place of the id in the device's list, from 0.</param>
/// <param name="DriverPlace">The place of the id in the driver's list, from 0.</param>
/// <param name="FeatureScore">What the INF says of how well it serves the device, 0 to 255.</param>
/// <remarks>Source: the vendor's driver documentation, "How Windows ranks drivers".</remarks>
public sealed record DriverMatch(CandidateDriver Driver, string Description, string Id, int Kind, int DevicePlace, int DriverPlace,
    int FeatureScore) : IComparable<DriverMatch>
{
    /// <summary>Ids of components that come with the device.</summary>
    public IReadOnlyList<string> Components { get; init; } = [];

    /// <summary>The better one is less.</summary>
    public int CompareTo(DriverMatch? other) => other is null ? -1
        : (!Driver.IsSigned, FeatureScore, Kind, DevicePlace,
        DriverPlace).CompareTo((!other.Driver.IsSigned, other.FeatureScore, other.Kind, other.DevicePlace,
        other.DriverPlace)) is var rank and not 0 ? rank
        : (other.Driver.Date, other.Driver.Version).CompareTo((Driver.Date, Driver.Version));

    /// <summary>Why another one is chosen instead of this one.</summary>
    public string LosesTo(DriverMatch winner)
    {
        if (winner.Driver.IsSigned != Driver.IsSigned)
            return "it is not signed by anybody trusted";
        if (Driver.ExtensionId is null && winner.FeatureScore != FeatureScore)
            return string.Create(CultureInfo.InvariantCulture,
                $"its feature score is {FeatureScore:X2}, the other's {winner.FeatureScore:X2} (lower wins)");
        if (Driver.ExtensionId is null && winner.Kind != Kind)
            return Kind == 0 ? ""
                : $"it fits by a compatible id ({Id}), the other by {(winner.Kind == 0 ? "a hardware id" : "a better one")} ({winner.Id})";
        if (Driver.ExtensionId is null && (winner.DevicePlace, winner.DriverPlace) != (DevicePlace, DriverPlace))
            return $"it fits by a less exact id ({Id})";
        if (winner.Driver.Date != Driver.Date)
            return string.Create(CultureInfo.InvariantCulture, $"it is older ({Driver.Date:yyyy-MM-dd})");
        return winner.Driver.Version != Driver.Version ? $"its version is lower ({Driver.Version})" : "it is the same";
    }

    /// <inheritdoc/>
    public static bool operator <(DriverMatch a, DriverMatch b) => a.CompareTo(b) < 0;

    /// <inheritdoc/>
    public static bool operator >(DriverMatch a, DriverMatch b) => a.CompareTo(b) > 0;

    /// <inheritdoc/>
    public static bool operator <=(DriverMatch a, DriverMatch b) => a.CompareTo(b) <= 0;

    /// <inheritdoc/>
    public static bool operator >=(DriverMatch a, DriverMatch b) => a.CompareTo(b) >= 0;
}

using System.Globalization;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>A driver that may be chosen for devices: a package at hand, or one that an image holds.</summary>
/// <param name="Name">Its INF's name.</param>
/// <param name="From">Where it is: the INF's path, or "image" and its published name.</param>
/// <param name="Provider">Who provides it.</param>
/// <param name="Version">Its version.</param>
/// <param name="Date">Its date.</param>
/// <param name="IsSigned">Whether it is signed by somebody trusted.</param>
/// <param name="Models">The devices that it serves, with their ids, hardware id first, and how well it serves them (0 best, 255 least).</param>
public sealed record CandidateDriver(string Name, string From, string Provider, Version Version, DateOnly Date, bool IsSigned, IReadOnlyList<(string Description, IReadOnlyList<string> Ids, int FeatureScore)> Models)
{
    /// <summary>A package at hand.</summary>
    public static CandidateDriver Of(FittedDriver driver, string from, bool isSigned) => new(
        driver.Package.InfName, from, driver.Package.Provider, driver.Package.Version, driver.Package.Date, isSigned,
        [.. driver.Devices.Select(d => (d.Description, d.Ids, driver.Sections[d.InstallSection].FeatureScore))]);

    /// <summary>A package that an image lists; where its INF cannot be read, by what the database says.</summary>
    public static CandidateDriver Of(ListedDriver listed, FittedDriver? driver, bool isSigned)
    {
        var from = listed.IsAdded ? $"image ({listed.Inf})" : "image (part of Windows)";
        return driver is { Devices.Count: > 0 } ? Of(driver, from, isSigned)
            : new CandidateDriver(listed.OriginalInf.Length > 0 ? listed.OriginalInf : listed.Inf, from, listed.Provider, Version.TryParse(listed.Version, out var version) ? version : new Version(0, 0, 0, 0), listed.Date ?? default, isSigned,
                [.. listed.Ids.Select(i => ("", (IReadOnlyList<string>)[i], 255))]);
    }
}

/// <summary>A driver that fits a device.</summary>
/// <param name="Driver">The driver.</param>
/// <param name="Description">What it calls the device.</param>
/// <param name="Id">The id by which it fits.</param>
/// <param name="Kind">0 when a hardware id of both meets, 1 the device's hardware id and the driver's compatible one, 2 the other way round, 3 compatible ids of both.</param>
/// <param name="DevicePlace">The place of the id in the device's list, from 0.</param>
/// <param name="DriverPlace">The place of the id in the driver's list, from 0.</param>
/// <param name="FeatureScore">What the INF says of how well it serves the device, 0 to 255.</param>
/// <remarks>Source: the vendor's driver documentation, "How Windows ranks drivers".</remarks>
public sealed record DriverMatch(CandidateDriver Driver, string Description, string Id, int Kind, int DevicePlace, int DriverPlace, int FeatureScore) : IComparable<DriverMatch>
{
    /// <summary>The better one is less.</summary>
    public int CompareTo(DriverMatch? other) => other is null ? -1
        : (!Driver.IsSigned, FeatureScore, Kind, DevicePlace, DriverPlace).CompareTo((!other.Driver.IsSigned, other.FeatureScore, other.Kind, other.DevicePlace, other.DriverPlace)) is var rank and not 0 ? rank
        : (other.Driver.Date, other.Driver.Version).CompareTo((Driver.Date, Driver.Version));

    /// <summary>Why another one is chosen instead of this one.</summary>
    public string LosesTo(DriverMatch winner)
    {
        if (winner.Driver.IsSigned != Driver.IsSigned)
            return "it is not signed by anybody trusted";
        if (winner.FeatureScore != FeatureScore)
            return string.Create(CultureInfo.InvariantCulture, $"its feature score is {FeatureScore:X2}, the other's {winner.FeatureScore:X2} (lower wins)");
        if (winner.Kind != Kind)
            return Kind == 0 ? "" : $"it fits by a compatible id ({Id}), the other by {(winner.Kind == 0 ? "a hardware id" : "a better one")} ({winner.Id})";
        if ((winner.DevicePlace, winner.DriverPlace) != (DevicePlace, DriverPlace))
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

/// <summary>What a device of a model would get.</summary>
/// <param name="Device">The device.</param>
/// <param name="Chosen">The driver that Windows would choose; null when there is none.</param>
/// <param name="Others">Those that lose, the best first.</param>
public sealed record DeviceCoverage(HardwareDevice Device, DriverMatch? Chosen, IReadOnlyList<DriverMatch> Others)
{
    /// <summary>0 for a device without which Windows does not start and that has no driver, 1 for one that is needed, 2 for any other without a driver, 3 for one with a driver.</summary>
    public int Urgency => Chosen is not null ? 3 : Device.Boot ? 0 : Device.Needed ? 1 : 2;
}

/// <summary>What the devices of a model would get.</summary>
/// <param name="Model">The model.</param>
/// <param name="Devices">Its devices, those without a driver first, boot-critical ones foremost.</param>
public sealed record ModelCoverage(string Model, IReadOnlyList<DeviceCoverage> Devices);

/// <summary>Tells beforehand which driver Windows would choose for the devices of hardware models.</summary>
public static class Coverage
{
    /// <summary>Chooses for every device of every model.</summary>
    public static IReadOnlyList<ModelCoverage> Of(IReadOnlyList<HardwareProfile> profiles, IReadOnlyList<CandidateDriver> drivers)
    {
        var byId = new Dictionary<string, List<(CandidateDriver Driver, string Description, int Place, int FeatureScore)>>(StringComparer.OrdinalIgnoreCase);
        foreach (var driver in drivers)
        {
            foreach (var (description, ids, score) in driver.Models)
            {
                for (var place = 0; place < ids.Count; place++)
                {
                    if (!byId.TryGetValue(ids[place], out var list))
                        byId[ids[place]] = list = [];
                    list.Add((driver, description, place, score));
                }
            }
        }
        DeviceCoverage Choose(HardwareDevice device)
        {
            var matches = new List<DriverMatch>();
            void Match(IReadOnlyList<string> ids, bool compatible)
            {
                for (var place = 0; place < ids.Count; place++)
                {
                    foreach (var found in byId.GetValueOrDefault(ids[place]) ?? [])
                        matches.Add(new DriverMatch(found.Driver, found.Description, ids[place], (compatible ? 2 : 0) + (found.Place > 0 ? 1 : 0), place, found.Place, found.FeatureScore));
                }
            }
            Match(device.HardwareIds, compatible: false);
            Match(device.CompatibleIds, compatible: true);
            // Of one driver only its best match counts.
            var best = matches.Order().DistinctBy(m => m.Driver).ToList();
            return new DeviceCoverage(device, best.FirstOrDefault(), [.. best.Skip(1)]);
        }
        return [.. profiles.Select(p => new ModelCoverage(p.Model, [.. p.Devices.Select(Choose).OrderBy(d => d.Urgency)]))];
    }

    /// <summary>Whether every device that is needed has a driver.</summary>
    public static bool IsInOrder(IEnumerable<ModelCoverage> models) => models.SelectMany(m => m.Devices).All(d => d.Urgency >= 2);
}

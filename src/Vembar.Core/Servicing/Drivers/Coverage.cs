using System.Globalization;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>A driver that may be chosen for devices: a package at hand, or one that an image holds.</summary>
/// <param name="Name">Its INF's name.</param>
/// <param name="From">Where it is: the INF's path, or "image" and its published name.</param>
/// <param name="Provider">Who provides it.</param>
/// <param name="Version">Its version.</param>
/// <param name="Date">Its date.</param>
/// <param name="IsSigned">Whether it is signed by somebody trusted.</param>
/// <param name="Models">The devices that it serves.</param>
public sealed record CandidateDriver(string Name, string From, string Provider, Version Version, DateOnly Date, bool IsSigned, IReadOnlyList<CandidateModel> Models)
{
    /// <summary>Which extension it is; null for a driver that can be a device's own.</summary>
    public Guid? ExtensionId { get; init; }

    /// <summary>A package at hand.</summary>
    public static CandidateDriver Of(FittedDriver driver, string from, bool isSigned) => new(
        driver.Package.InfName, from, driver.Package.Provider, driver.Package.Version, driver.Package.Date, isSigned,
        [.. driver.Devices.Select(d => new CandidateModel(d.Description, d.Ids, driver.Sections[d.InstallSection].FeatureScore, driver.Sections[d.InstallSection].Components))])
    { ExtensionId = driver.Package.ExtensionId };

    /// <summary>A package that an image lists; where its INF cannot be read, by what the database says.</summary>
    public static CandidateDriver Of(ListedDriver listed, FittedDriver? driver, bool isSigned)
    {
        var from = listed.IsAdded ? $"image ({listed.Inf})" : "image (part of Windows)";
        return driver is { Devices.Count: > 0 } ? Of(driver, from, isSigned)
            : new CandidateDriver(listed.OriginalInf.Length > 0 ? listed.OriginalInf : listed.Inf, from, listed.Provider, Version.TryParse(listed.Version, out var version) ? version : new Version(0, 0, 0, 0), listed.Date ?? default, isSigned,
                [.. listed.Ids.Select(i => new CandidateModel("", [i], 255, []))])
            { ExtensionId = listed.ClassGuid == DriverPackage.ExtensionClass ? Guid.Empty : null };
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
    /// <summary>Ids of components that come with the device.</summary>
    public IReadOnlyList<string> Components { get; init; } = [];

    /// <summary>The better one is less.</summary>
    public int CompareTo(DriverMatch? other) => other is null ? -1
        : (!Driver.IsSigned, FeatureScore, Kind, DevicePlace, DriverPlace).CompareTo((!other.Driver.IsSigned, other.FeatureScore, other.Kind, other.DevicePlace, other.DriverPlace)) is var rank and not 0 ? rank
        : (other.Driver.Date, other.Driver.Version).CompareTo((Driver.Date, Driver.Version));

    /// <summary>Why another one is chosen instead of this one.</summary>
    public string LosesTo(DriverMatch winner)
    {
        if (winner.Driver.IsSigned != Driver.IsSigned)
            return "it is not signed by anybody trusted";
        if (Driver.ExtensionId is null && winner.FeatureScore != FeatureScore)
            return string.Create(CultureInfo.InvariantCulture, $"its feature score is {FeatureScore:X2}, the other's {winner.FeatureScore:X2} (lower wins)");
        if (Driver.ExtensionId is null && winner.Kind != Kind)
            return Kind == 0 ? "" : $"it fits by a compatible id ({Id}), the other by {(winner.Kind == 0 ? "a hardware id" : "a better one")} ({winner.Id})";
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

/// <summary>What a device of a model would get.</summary>
/// <param name="Device">The device.</param>
/// <param name="Chosen">The driver that Windows would choose; null when there is none.</param>
/// <param name="Others">Those that lose, the best first, then those that lose to what goes in beside it.</param>
public sealed record DeviceCoverage(HardwareDevice Device, DriverMatch? Chosen, IReadOnlyList<DriverMatch> Others)
{
    /// <summary>What goes in beside the chosen driver: the newest of each extension, and the components that these bring.</summary>
    public IReadOnlyList<DriverMatch> Beside { get; init; } = [];

    /// <summary>All that the device gets.</summary>
    public IEnumerable<DriverMatch> All => Chosen is null ? Beside : Beside.Prepend(Chosen);

    /// <summary>The one that another one loses to.</summary>
    public DriverMatch? WinnerOver(DriverMatch other) => other.Driver.ExtensionId is { } extension ? Beside.FirstOrDefault(b => b.Driver.ExtensionId == extension)
        : Beside.FirstOrDefault(b => b.Id.Equals(other.Id, StringComparison.OrdinalIgnoreCase) && b.Id.StartsWith(@"SWC\", StringComparison.OrdinalIgnoreCase)) ?? Chosen;

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
        var byId = new Dictionary<string, List<(CandidateDriver Driver, CandidateModel Model, int Place)>>(StringComparer.OrdinalIgnoreCase);
        foreach (var driver in drivers)
        {
            foreach (var model in driver.Models)
            {
                for (var place = 0; place < model.Ids.Count; place++)
                {
                    if (!byId.TryGetValue(model.Ids[place], out var list))
                        byId[model.Ids[place]] = list = [];
                    list.Add((driver, model, place));
                }
            }
        }
        // Of one driver only its best match counts.
        List<DriverMatch> Matches(IReadOnlyList<string> hardwareIds, IReadOnlyList<string> compatibleIds)
        {
            var matches = new List<DriverMatch>();
            void Match(IReadOnlyList<string> ids, bool compatible)
            {
                for (var place = 0; place < ids.Count; place++)
                {
                    foreach (var (driver, model, at) in byId.GetValueOrDefault(ids[place]) ?? [])
                    {
                        matches.Add(new DriverMatch(driver, model.Description, ids[place], (compatible ? 2 : 0) + (at > 0 ? 1 : 0), place, at, model.FeatureScore) { Components = model.Components });
                    }
                }
            }
            Match(hardwareIds, compatible: false);
            Match(compatibleIds, compatible: true);
            return [.. matches.Order().DistinctBy(m => m.Driver)];
        }
        DeviceCoverage Choose(HardwareDevice device)
        {
            var matches = Matches(device.HardwareIds, device.CompatibleIds);
            var own = matches.Where(m => m.Driver.ExtensionId is null).ToList();
            var extensions = matches.Where(m => m.Driver.ExtensionId is not null).GroupBy(m => m.Driver.ExtensionId)
                .Select(g => g.OrderBy(m => !m.Driver.IsSigned).ThenByDescending(m => (m.Driver.Date, m.Driver.Version)).ToList()).ToList();
            var beside = extensions.ConvertAll(e => e[0]);
            var others = own.Skip(1).Concat(extensions.SelectMany(e => e.Skip(1))).ToList();
            AddComponents(own.Take(1).Concat(beside).SelectMany(m => m.Components), beside, others);
            return new DeviceCoverage(device, own.FirstOrDefault(), others) { Beside = beside };
        }
        // What brings components brings theirs as well.
        void AddComponents(IEnumerable<string> ids, List<DriverMatch> beside, List<DriverMatch> others)
        {
            var pending = new Queue<string>(ids);
            var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            while (pending.TryDequeue(out var id))
            {
                if (!seen.Add(id) || Matches([id], []) is not [var best, .. var worse])
                    continue;
                if (beside.All(m => m.Driver != best.Driver))
                    beside.Add(best);
                others.AddRange(worse);
                foreach (var more in best.Components)
                    pending.Enqueue(more);
            }
        }
        return [.. profiles.Select(p => new ModelCoverage(p.Model, [.. p.Devices.Select(Choose).OrderBy(d => d.Urgency)]))];
    }

    /// <summary>Whether every device that is needed has a driver.</summary>
    public static bool IsInOrder(IEnumerable<ModelCoverage> models) => models.SelectMany(m => m.Devices).All(d => d.Urgency >= 2);
}

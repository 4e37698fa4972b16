namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver that may be chosen for devices: a package at hand, or one that an image holds.</summary>
/// <param name="Name">Its INF's name.</param>
/// <param name="From">Where it is: the INF's path, or "image" and its published name.</param>
/// <param name="Provider">Who provides it.</param>
/// <param name="Version">Its version.</param>
/// <param name="Date">Its date.</param>
/// <param name="IsSigned">Whether it is signed by somebody trusted.</param>
/// <param name="Models">The devices that it serves.</param>
public sealed record CandidateDriver(string Name, string From, string Provider, Version Version, DateOnly Date, bool IsSigned,
    IReadOnlyList<CandidateModel> Models)
{
    /// <summary>Which extension it is; null for a driver that can be a device's own.</summary>
    public Guid? ExtensionId { get; init; }

    /// <summary>A package at hand.</summary>
    public static CandidateDriver Of(FittedDriver driver, string from, bool isSigned) => new(
        driver.Package.InfName, from, driver.Package.Provider, driver.Package.Version, driver.Package.Date, isSigned,
        [.. driver.Devices.Select(d => new CandidateModel(d.Description, d.Ids, driver.Sections[d.InstallSection].FeatureScore,
        driver.Sections[d.InstallSection].Components))])
    { ExtensionId = driver.Package.ExtensionId };

    /// <summary>A package that an image lists; where its INF cannot be read, by what the database says.</summary>
    public static CandidateDriver Of(ListedDriver listed, FittedDriver? driver, bool isSigned)
    {
        var from = listed.IsAdded ? $"image ({listed.Inf})" : "image (part of Windows)";
        return driver is { Devices.Count: > 0 } ? Of(driver, from, isSigned)
            : new CandidateDriver(listed.OriginalInf.Length > 0 ? listed.OriginalInf : listed.Inf, from, listed.Provider,
            Version.TryParse(listed.Version, out var version) ? version : new Version(0, 0, 0, 0), listed.Date ?? default, isSigned,
                [.. listed.Ids.Select(i => new CandidateModel("", [i], 255, []))])
            { ExtensionId = listed.ClassGuid == DriverPackage.ExtensionClass ? Guid.Empty : null };
    }
}

using Vembar.Common;
using Vembar.Windows.Servicing.Folders;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver package that was found and looked at: what it is, or why it is not one for this Windows.</summary>
/// <param name="Found">The INF.</param>
/// <param name="Driver">The package as the Windows sees it; null when it is none.</param>
/// <param name="Status">How it stands: <see cref="ChangeStatus.Done"/> while nothing speaks against it.</param>
/// <param name="Why">What speaks against it.</param>
internal sealed record DriverFound(FoundInf Found, FittedDriver? Driver, ChangeStatus Status, string Why)
{
    /// <summary>Finds and reads all packages below some paths.</summary>
    public static List<DriverFound> In(IEnumerable<string> paths, WindowsTarget windows, Func<string, InfFile?>? include,
        List<ChangeOutcome> problems, CancellationToken cancellation)
    {
        var all = new List<DriverFound>();
        foreach (var path in paths)
        {
            var damaged = new List<string>();
            try
            {
                var infs = FoundInf.Find(path, damaged, cancellation);
                all.AddRange(infs.Select(inf => Read(inf, windows, include, alone: infs.Count == 1)));
            }
            catch (VembarException problem)
            {
                problems.Add(new ChangeOutcome("driver", path, ChangeStatus.Refused, problem.Message));
            }
            problems.AddRange(damaged.Select(d => new ChangeOutcome("driver", path, ChangeStatus.Refused, d)));
        }
        return all;
    }

    /// <summary>Adds the packages that others bring with CopyINF and that are not among them.</summary>
    public static void AddCopied(List<DriverFound> found, WindowsTarget windows, Func<string, InfFile?>? include)
    {
        for (var i = 0; i < found.Count; i++)
        {
            if (found[i] is not { Status: ChangeStatus.Done, Driver: { } driver } bringer)
                continue;
            foreach (var name in driver.CopiedInfs.Where(n => !n.Contains('/') && driver.Package.Folder.Length(n) is not null))
            {
                if (!found.Exists(f => f.IsAt(bringer.Beside(name))))
                    found.Add(Read(new FoundInf(driver.Package.Folder, name, bringer.Beside(name)), windows, include, alone: true));
            }
        }
    }

    /// <summary>Where an INF is that this one names.</summary>
    public string Beside(string name) => Found.DisplayName[..(Found.DisplayName.LastIndexOf('/') + 1)] + name;

    /// <summary>Whether it is at a place.</summary>
    public bool IsAt(string displayName) => Found.DisplayName.Equals(displayName, StringComparison.OrdinalIgnoreCase);

    // One package that does not fit is a mistake; among many it is what vendors' collections are like.
    private static DriverFound Read(FoundInf inf, WindowsTarget windows, Func<string, InfFile?>? include, bool alone)
    {
        var unfit = alone ? ChangeStatus.Refused : ChangeStatus.Skipped;
        try
        {
            var text = InfFile.Parse(inf.Folder.Read(inf.Name, InfFile.Longest), inf.DisplayName);
            if (!alone && !text.Has("Version"))
                return new DriverFound(inf, null, ChangeStatus.Skipped, "it is not the INF of a driver");
            var package = DriverPackage.Read(text, inf.Folder, inf.Name);
            var driver = package.For(windows, include);
            if (driver.Devices.Count == 0 && !driver.IsPrimitive)
            {
                var why = package.Architectures.Count > 0 && !package.Architectures.Contains(windows.Architecture)
                    ? $"it is for {string.Join(" and ", package.Architectures)}; the image is {windows.Architecture}"
                    : package.DeviceCount == 0 ? "it is for no device"
                    : $"it has no device for {windows.Architecture}, build {windows.Build}";
                return new DriverFound(inf, null, unfit, why);
            }
            return driver.MissingFiles is { Count: > 0 } missing
                ? new DriverFound(inf, driver, ChangeStatus.Refused, $"files that the INF names are missing: {string.Join(", ", missing)}")
                : new DriverFound(inf, driver, ChangeStatus.Done, "");
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
        {
            return new DriverFound(inf, null, ChangeStatus.Refused, problem.Message);
        }
    }
}

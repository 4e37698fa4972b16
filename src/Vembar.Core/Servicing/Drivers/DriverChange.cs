using Vembar.Core.Archives;
using Vembar.Core.Servicing.Folders;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>How drivers are let into an image.</summary>
public sealed record DriverOptions
{
    /// <summary>Whose signatures count.</summary>
    public DriverTrust Trust { get; init; } = DriverTrust.Nobody;

    /// <summary>Whether packages without a good signature are let in, and marked.</summary>
    public bool AllowUnsigned { get; init; }

    /// <summary>Whether older versions of the same driver are taken out of the image.</summary>
    public bool ReplaceOlder { get; init; }

    /// <summary>Whether all versions of a driver are wanted, and not the newest alone.</summary>
    public bool EveryVersion { get; init; }

    /// <summary>The models to serve; empty for every device.</summary>
    public IReadOnlyList<HardwareProfile> For { get; init; } = [];
}

/// <summary>A driver package that was found and looked at: what it is, or why it is not one for this Windows.</summary>
/// <param name="Found">The INF.</param>
/// <param name="Driver">The package as the Windows sees it; null when it is none.</param>
/// <param name="Status">How it stands: <see cref="ChangeStatus.Done"/> while nothing speaks against it.</param>
/// <param name="Why">What speaks against it.</param>
internal sealed record DriverFound(FoundInf Found, FittedDriver? Driver, ChangeStatus Status, string Why)
{
    /// <summary>Finds and reads all packages below some paths.</summary>
    public static List<DriverFound> In(IEnumerable<string> paths, WindowsTarget windows, Func<string, InfFile?>? include, List<ChangeOutcome> problems, CancellationToken cancellation)
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
    public string Beside(string name) => Found.Shown[..(Found.Shown.LastIndexOf('/') + 1)] + name;

    /// <summary>Whether it is at a place.</summary>
    public bool IsAt(string shown) => Found.Shown.Equals(shown, StringComparison.OrdinalIgnoreCase);

    // One package that does not fit is a mistake; among many it is what vendors' collections are like.
    private static DriverFound Read(FoundInf inf, WindowsTarget windows, Func<string, InfFile?>? include, bool alone)
    {
        var unfit = alone ? ChangeStatus.Refused : ChangeStatus.Skipped;
        try
        {
            var text = InfFile.Parse(inf.Folder.Read(inf.Name, InfFile.Longest), inf.Shown);
            if (!alone && !text.Has("Version"))
                return new DriverFound(inf, null, ChangeStatus.Skipped, "it is not the INF of a driver");
            var package = DriverPackage.Read(text, inf.Folder, inf.Name);
            var driver = package.For(windows, include);
            if (driver.Devices.Count == 0 && !driver.IsPrimitive)
            {
                var why = package.Architectures.Count > 0 && !package.Architectures.Contains(windows.Architecture) ? $"it is for {string.Join(" and ", package.Architectures)}; the image is {windows.Architecture}"
                    : package.DeviceCount == 0 ? "it is for no device" : $"it has no device for {windows.Architecture}, build {windows.Build}";
                return new DriverFound(inf, null, unfit, why);
            }
            return driver.MissingFiles is { Count: > 0 } missing ? new DriverFound(inf, driver, ChangeStatus.Refused, $"files that the INF names are missing: {string.Join(", ", missing)}") : new DriverFound(inf, driver, ChangeStatus.Done, "");
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Surroundings)
        {
            return new DriverFound(inf, null, ChangeStatus.Refused, problem.Message);
        }
    }
}

/// <summary>Adds driver packages to the image's driver store.</summary>
/// <param name="paths">Folders, INF files or zip files.</param>
/// <param name="options">How they are let in.</param>
public sealed class DriverChange(IReadOnlyList<string> paths, DriverOptions options) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        var (store, why) = DriverStore.Open(context);
        if (store is null)
            return [.. paths.Select(p => new ChangeOutcome("driver", p, ChangeStatus.Refused, why))];
        var outcomes = new List<ChangeOutcome>();
        var found = DriverFound.In(paths, store.Windows, store.Include, outcomes, context.Cancellation);
        DriverFound.AddCopied(found, store.Windows, store.Include);
        var folders = new Dictionary<DriverFound, string>();
        var signatures = new Dictionary<DriverFound, DriverSignature>();
        SkipStrangers(found, store);
        for (var i = 0; i < found.Count; i++)
        {
            if (found[i] is not { Status: ChangeStatus.Done, Driver: { } driver })
                continue;
            context.Cancellation.ThrowIfCancellationRequested();
            try
            {
                var signature = options.Trust.Check(driver);
                if (signature.State != SignatureState.Signed && !options.AllowUnsigned)
                    found[i] = found[i] with { Status = ChangeStatus.Refused, Why = $"{signature.Word}: {signature.Why}" };
                else
                    (signatures[found[i]], folders[found[i]]) = (signature, driver.StoreFolder());
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Surroundings)
            {
                found[i] = found[i] with { Status = ChangeStatus.Refused, Why = problem.Message };
            }
        }
        var kept = Choose(context, store, found, folders, signatures);
        outcomes.AddRange(kept.Select(k => k.Status != ChangeStatus.Done ? new ChangeOutcome("driver", k.Found.Shown, k.Status, k.Why) : AddOne(context, store, k, folders[k], signatures[k])));
        return outcomes;
    }

    // Of a large collection most packages serve no device of the models; those are not read any further.
    private void SkipStrangers(List<DriverFound> found, DriverStore store)
    {
        if (options.For.Count == 0)
            return;
        var ids = options.For.SelectMany(p => p.Devices).SelectMany(d => d.HardwareIds.Concat(d.CompatibleIds))
            .Concat(found.Select(f => f.Driver).Concat(store.Listed.Select(store.Fit)).OfType<FittedDriver>().SelectMany(d => d.Sections.Values).SelectMany(s => s.Components)).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var brought = found.Where(f => f.Driver is not null).SelectMany(f => f.Driver!.CopiedInfs.Select(f.Beside)).ToHashSet(StringComparer.OrdinalIgnoreCase);
        for (var i = 0; i < found.Count; i++)
        {
            if (found[i] is { Status: ChangeStatus.Done, Driver: { } driver } && !brought.Contains(found[i].Found.Shown) && !driver.Devices.Any(d => d.Ids.Any(ids.Contains)))
                found[i] = found[i] with { Status = ChangeStatus.Skipped, Why = WhyLeftOut(driver) };
        }
    }

    private string WhyLeftOut(FittedDriver driver) => driver.IsPrimitive ? "it is for no device, but a filter or a service; it goes in without models"
        : $"no device of {string.Join(", ", options.For.Select(p => p.Model))} would get it; {driver.Bytes >> 10} KiB left out";

    // The newest of each driver, each package once, and only what the models need; what falls out keeps its place with the reason.
    private List<DriverFound> Choose(ServiceContext context, DriverStore store, List<DriverFound> found, Dictionary<DriverFound, string> folders, Dictionary<DriverFound, DriverSignature> signatures)
    {
        var first = new Dictionary<string, DriverFound>(StringComparer.OrdinalIgnoreCase);
        var lines = found.Where(f => f.Status == ChangeStatus.Done).ToLookup(f => f.Driver!.Package.Line);
        var wanted = DriverVersions.IdsOf(options.For);
        var chosen = new HashSet<string>(StringComparer.Ordinal);
        if (options.For.Count > 0)
        {
            var candidates = found.Where(f => f.Status == ChangeStatus.Done).Select(f => CandidateDriver.Of(f.Driver!, f.Found.Shown, signatures[f].State == SignatureState.Signed))
                .Concat(store.Listed.Where(l => !folders.ContainsValue(l.StoreFolder)).Select(l => CandidateDriver.Of(l, store.Fit(l), context.UnsignedDrivers.All(u => u.Inf != l.Inf)))).ToList();
            chosen.UnionWith(Coverage.Of(options.For, candidates).SelectMany(m => m.Devices).SelectMany(d => d.All).Select(m => m.Driver.From));
            // What a chosen one brings comes along.
            var pending = new Queue<DriverFound>(found.Where(f => chosen.Contains(f.Found.Shown)));
            while (pending.TryDequeue(out var bringer))
            {
                foreach (var brought in bringer.Driver!.CopiedInfs.SelectMany(n => found.Where(f => f.Driver is not null && f.IsAt(bringer.Beside(n)))))
                {
                    if (chosen.Add(brought.Found.Shown))
                        pending.Enqueue(brought);
                }
            }
        }
        return found.ConvertAll(f =>
        {
            if (f.Status != ChangeStatus.Done)
                return f;
            DriverFound Skip(string why) => f with { Status = ChangeStatus.Skipped, Why = why };
            var package = f.Driver!.Package;
            if (!first.TryAdd(folders[f], f))
                return Skip($"the same package as {first[folders[f]].Found.Shown}");
            if (!options.EveryVersion && Newer(f, lines[package.Line], wanted) is { } best)
                return Skip($"older than {best.Driver!.Package.Version} in {best.Found.Shown}");
            return options.For.Count > 0 && !chosen.Contains(f.Found.Shown) ? Skip(WhyLeftOut(f.Driver)) : f;
        });
    }

    // The newest one that serves all that this one does.
    private static DriverFound? Newer(DriverFound found, IEnumerable<DriverFound> line, HashSet<string> wanted)
    {
        var package = found.Driver!.Package;
        return line.Where(f => f.Driver!.Package.IsNewerThan(package.Date, package.Version) && DriverVersions.Covers(DriverVersions.IdsOf(f.Driver), DriverVersions.IdsOf(found.Driver), wanted))
            .MaxBy(f => (f.Driver!.Package.Date, f.Driver.Package.Version));
    }

    private static string Devices(int count) => count == 1 ? "1 device" : string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{count} devices");

    private ChangeOutcome AddOne(ServiceContext context, DriverStore store, DriverFound found, string folder, DriverSignature signature)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("driver", found.Found.Shown, status, why);
        var driver = found.Driver!;
        var package = driver.Package;
        try
        {
            if (store.Find(folder) is { } there)
                return Outcome(ChangeStatus.Already, $"it is {there.Inf}");
            var versions = store.Listed.Where(l => l.OriginalInf.Equals(package.InfName, StringComparison.OrdinalIgnoreCase) && l.Provider.Equals(package.Provider, StringComparison.OrdinalIgnoreCase) && (l.ClassGuid == package.ClassGuid || l.ClassGuid == Guid.Empty)).ToList();
            var wanted = DriverVersions.IdsOf(options.For);
            var ids = DriverVersions.IdsOf(driver).ToList();
            if (!options.EveryVersion && versions.Find(v => Version.TryParse(v.Version, out var version) && (v.Date ?? default, version).CompareTo((package.Date, package.Version)) > 0
                && DriverVersions.Covers(v.Ids, ids, wanted)) is { } newer)
                return Outcome(ChangeStatus.Skipped, $"the image has a newer one, {newer.Version} ({newer.Inf})");
            if (store.Conflict(driver) is { } conflict)
                return Outcome(ChangeStatus.Refused, conflict);
            var before = context.Tree.BytesChanged;
            var older = versions.Where(v => Version.TryParse(v.Version, out var version) && package.IsNewerThan(v.Date ?? default, version) && DriverVersions.Covers(ids, v.Ids, wanted)).ToList();
            if (options.ReplaceOlder)
                older.ForEach(o => store.Remove(o));
            var published = store.Add(driver, folder);
            if (signature.State != SignatureState.Signed)
                context.UnsignedDrivers.Add(new UnsignedDriver(published, package.InfName, signature.Word, signature.Why));
            var notes = new List<string>
            {
                $"{package.Provider} {package.Class} {package.Version}, {(driver.IsPrimitive ? "for no device" : Devices(driver.Devices.Count))}, as {published}",
            };
            var services = driver.Services.Count > 0 ? $"service {string.Join(", ", driver.Services.Select(s => s.Name))} installed" : "";
            if (driver.IsBootCritical)
                notes.Add(services.Length > 0 ? $"boot-critical: {services}" : "boot-critical");
            else if (driver.IsPrimitive)
                notes.Add(services);
            if (older.Count > 0)
                notes.Add($"{(options.ReplaceOlder ? "in place of" : "beside the older")} {string.Join(", ", older.Select(o => $"{o.Version} ({o.Inf})"))}");
            notes.Add(signature.State == SignatureState.Signed ? signature.Why : $"NOT TRUSTED, {signature.Word}: {signature.Why}");
            if (driver.LeftToWindows.Count > 0)
                notes.Add($"{(driver.IsPrimitive ? "not made, and Windows will not either" : "left to Windows")}: {string.Join(", ", driver.LeftToWindows)}");
            var missing = driver.CopiedInfs.Where(n => n.Contains('/') || (package.Folder.Length(n) is null && store.Include(n) is null)).ToList();
            if (missing.Count > 0)
                notes.Add($"it brings {string.Join(", ", missing)}, which {(missing.Count == 1 ? "is" : "are")} not beside it");
            if (driver.MissingIncludes.Count > 0 && driver.IsBootCritical)
                notes.Add($"it includes {string.Join(", ", driver.MissingIncludes)}, which the image does not have");
            return Outcome(ChangeStatus.Done, string.Join("; ", notes)) with { Bytes = context.Tree.BytesChanged - before };
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Surroundings)
        {
            return Outcome(ChangeStatus.Refused, problem.Message);
        }
    }
}

/// <summary>Takes added drivers out of the image.</summary>
/// <param name="name">The published name (oem3.inf), or the INF's own name for all its versions.</param>
public sealed class DriverOutChange(string name) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("driver-out", name, status, why);
        var (store, why) = DriverStore.Open(context);
        if (store is null)
            return [Outcome(ChangeStatus.Refused, why)];
        var wanted = name.EndsWith(".inf", StringComparison.OrdinalIgnoreCase) ? name : name + ".inf";
        var matching = store.Listed.Where(l => l.Inf.Equals(wanted, StringComparison.OrdinalIgnoreCase)).ToList();
        if (matching.Count == 0)
            matching = [.. store.Listed.Where(l => l.OriginalInf.Equals(wanted, StringComparison.OrdinalIgnoreCase))];
        if (matching.Count == 0)
        {
            return [DriverDatabase.Read(context.Hive("SYSTEM")!, inbox: true).Any(l => l.Inf.Equals(wanted, StringComparison.OrdinalIgnoreCase))
                ? Outcome(ChangeStatus.Refused, "it is one of Windows' own drivers") : Outcome(ChangeStatus.Already, "the image has no such driver")];
        }
        return [.. matching.OrderByDescending(l => DriverDatabase.Number(l.Inf)).Select(l =>
        {
            var bytes = store.Remove(l);
            return Outcome(ChangeStatus.Done, $"{l.Provider} {l.OriginalInf} {l.Version} ({l.Inf}) is out; {bytes >> 10} KiB less") with { Bytes = -bytes };
        })];
    }
}

/// <summary>Puts driver packages into a folder that Windows searches when it meets a new device: the documented second way.</summary>
/// <param name="paths">Folders, INF files or zip files.</param>
/// <param name="options">How they are let in; versions and models are not looked at.</param>
/// <remarks>Source: the vendor's "Configure Windows to search additional folders for device drivers".</remarks>
public sealed class DriverPathChange(IReadOnlyList<string> paths, DriverOptions options) : IChange
{
    private const string Folder = "Drivers", SearchPath = @"%SystemDrive%\Drivers", DefaultPath = @"%SystemRoot%\inf";

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("driver-path", what, status, why);
        if (context.Install is not { } install || WindowsTarget.Of(install) is not { } windows)
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused, context.Install is null ? "the image holds no Windows" : "the image does not say which architecture it is for"))];
        if (context.Hive("SOFTWARE") is not { } software)
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused, "the image has no SOFTWARE hive"))];
        var outcomes = new List<ChangeOutcome>();
        foreach (var found in DriverFound.In(paths, windows, null, outcomes, context.Cancellation))
        {
            var shown = found.Found.Shown;
            if (found is not { Status: ChangeStatus.Done, Driver: { } driver })
            {
                outcomes.Add(Outcome(shown, found.Status, found.Why));
                continue;
            }
            try
            {
                List<DriverFound> all = [found];
                DriverFound.AddCopied(all, windows, null);
                var signature = options.Trust.Check(driver);
                if (signature.State != SignatureState.Signed && !options.AllowUnsigned)
                    outcomes.Add(Outcome(shown, ChangeStatus.Refused, $"{signature.Word}: {signature.Why}"));
                else if (driver.IsPrimitive)
                    outcomes.Add(Outcome(shown, ChangeStatus.Refused, "it is for no device, so Windows will not look for it; --driver installs it"));
                else if (all.Skip(1).FirstOrDefault(a => WhyNot(a) is not null) is { } brought)
                    outcomes.Add(Outcome(shown, ChangeStatus.Refused, $"it brings {brought.Found.Name}, which cannot go in: {WhyNot(brought)}"));
                else
                    outcomes.Add(Put(context, software, [.. all.Select(a => a.Driver!)], signature, why => Outcome(shown, why.Length > 0 ? ChangeStatus.Done : ChangeStatus.Already, why.Length > 0 ? why : "it is there")));
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Surroundings)
            {
                outcomes.Add(Outcome(shown, ChangeStatus.Refused, problem.Message));
            }
        }
        return outcomes;
    }

    private string? WhyNot(DriverFound brought)
    {
        if (brought is not { Status: ChangeStatus.Done, Driver: { } driver })
            return brought.Why;
        return options.AllowUnsigned || options.Trust.Check(driver) is not { State: not SignatureState.Signed } signature ? null : $"{signature.Word}: {signature.Why}";
    }

    // A package and those that it brings, which it looks for in its own folder.
    private static ChangeOutcome Put(ServiceContext context, Windows.RegistryHive software, IReadOnlyList<FittedDriver> all, DriverSignature signature, Func<string, ChangeOutcome> outcome)
    {
        var driver = all[0];
        var name = driver.StoreFolder();
        var folder = Trees.WindowsPath.Parse($"{Folder}/{name}");
        var changed = false;
        if (!context.Tree.Exists(folder))
        {
            foreach (var file in all.SelectMany(d => d.Files).Distinct(StringComparer.OrdinalIgnoreCase))
                context.Tree.PutFile(file.Split('/').Aggregate(folder, (at, part) => at.Child(part)), driver.Package.Folder.Content(file));
            if (signature.State != SignatureState.Signed)
                context.UnsignedDrivers.Add(new UnsignedDriver($"{Folder}/{name}", driver.Package.InfName, signature.Word, signature.Why));
            changed = true;
        }
        var key = software.Root.Ensure(@"Microsoft\Windows\CurrentVersion");
        var before = key.GetString("DevicePath") ?? DefaultPath;
        if (!before.Split(';').Contains(SearchPath, StringComparer.OrdinalIgnoreCase))
        {
            key.SetString("DevicePath", $"{before};{SearchPath}", Windows.RegistryType.ExpandString);
            context.Touch("SOFTWARE");
            changed = true;
        }
        return outcome(changed ? $"{driver.Package.Provider} {driver.Package.Class} {driver.Package.Version}, in {folder}; Windows looks there when it meets a device; {(signature.State == SignatureState.Signed ? signature.Why : $"NOT TRUSTED, {signature.Word}: {signature.Why}")}" : "");
    }
}

using Vembar.Common;
using Vembar.Images.Records;

namespace Vembar.Windows.Servicing.Drivers;

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
            return [.. paths.Select(p => new ChangeOutcome("driver", p, ChangeStatus.Refused, why.Text) { Advice = why.Advice })];
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
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
            {
                found[i] = found[i] with { Status = ChangeStatus.Refused, Why = problem.Message };
            }
        }
        var kept = Choose(context, store, found, folders, signatures);
        outcomes.AddRange(kept.Select(k => k.Status != ChangeStatus.Done
            ? new ChangeOutcome("driver", k.Found.DisplayName, k.Status, k.Why) : AddOne(context, store, k, folders[k], signatures[k])));
        context.Models.UnionWith(options.For.Select(m => m.Model));
        return outcomes;
    }

    // Of a large collection most packages serve no device of the models; those are not read any further.
    private void SkipStrangers(List<DriverFound> found, DriverStore store)
    {
        if (options.For.Count == 0)
            return;
        var ids = options.For.SelectMany(p => p.Devices).SelectMany(d => d.HardwareIds.Concat(d.CompatibleIds))
            .Concat(found.Select(f => f.Driver).Concat(store.Listed.Select(store.Fit)).OfType<FittedDriver>()
                .SelectMany(d => d.Sections.Values).SelectMany(s => s.Components)).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var brought = found.Where(f => f.Driver is not null).SelectMany(f => f.Driver!.CopiedInfs.Select(f.Beside))
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        for (var i = 0; i < found.Count; i++)
        {
            if (found[i] is { Status: ChangeStatus.Done, Driver: { } driver } && !brought.Contains(found[i].Found.DisplayName)
                && !driver.Devices.Any(d => d.Ids.Any(ids.Contains)))
                found[i] = found[i] with { Status = ChangeStatus.Skipped, Why = WhyLeftOut(driver) };
        }
    }

    private string WhyLeftOut(FittedDriver driver) =>
        driver.IsPrimitive ? "it is for no device, but a filter or a service; it goes in without models"
        : $"no device of {string.Join(", ", options.For.Select(p => p.Model))} would get it; {driver.Bytes >> 10} KiB left out";

    // The newest of each driver, each package once, and only what the models need; what falls out keeps its place with the reason.
    private List<DriverFound> Choose(ServiceContext context, DriverStore store, List<DriverFound> found,
        Dictionary<DriverFound, string> folders, Dictionary<DriverFound, DriverSignature> signatures)
    {
        var first = new Dictionary<string, DriverFound>(StringComparer.OrdinalIgnoreCase);
        var lines = found.Where(f => f.Status == ChangeStatus.Done).ToLookup(f => f.Driver!.Package.Line);
        var wanted = DriverVersions.IdsOf(options.For);
        var chosen = new HashSet<string>(StringComparer.Ordinal);
        if (options.For.Count > 0)
        {
            var candidates = found.Where(f => f.Status == ChangeStatus.Done)
                .Select(f => CandidateDriver.Of(f.Driver!, f.Found.DisplayName, signatures[f].State == SignatureState.Signed))
                .Concat(store.Listed.Where(l => !folders.ContainsValue(l.StoreFolder))
                    .Select(l => CandidateDriver.Of(l, store.Fit(l), context.UnsignedDrivers.All(u => u.Inf != l.Inf)))).ToList();
            chosen.UnionWith(Coverage.Of(options.For, candidates).SelectMany(m => m.Devices).SelectMany(d => d.All)
                .Select(m => m.Driver.From));
            // What a chosen one brings comes along.
            var pending = new Queue<DriverFound>(found.Where(f => chosen.Contains(f.Found.DisplayName)));
            while (pending.TryDequeue(out var bringer))
            {
                foreach (var brought in bringer.Driver!.CopiedInfs.SelectMany(
                    n => found.Where(f => f.Driver is not null && f.IsAt(bringer.Beside(n)))))
                {
                    if (chosen.Add(brought.Found.DisplayName))
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
                return Skip($"the same package as {first[folders[f]].Found.DisplayName}");
            if (!options.EveryVersion && Newer(f, lines[package.Line], wanted) is { } best)
                return Skip($"older than {best.Driver!.Package.Version} in {best.Found.DisplayName}");
            return options.For.Count > 0 && !chosen.Contains(f.Found.DisplayName) ? Skip(WhyLeftOut(f.Driver)) : f;
        });
    }

    // The newest one that serves all that this one does.
    private static DriverFound? Newer(DriverFound found, IEnumerable<DriverFound> line, HashSet<string> wanted)
    {
        var package = found.Driver!.Package;
        return line.Where(f => f.Driver!.Package.IsNewerThan(package.Date, package.Version)
            && DriverVersions.Covers(DriverVersions.IdsOf(f.Driver), DriverVersions.IdsOf(found.Driver), wanted))
            .MaxBy(f => (f.Driver!.Package.Date, f.Driver.Package.Version));
    }

    private static string Devices(int count) =>
        count == 1 ? "1 device" : string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{count} devices");

    private ChangeOutcome AddOne(ServiceContext context, DriverStore store, DriverFound found, string folder, DriverSignature signature)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("driver", found.Found.DisplayName, status, why);
        var driver = found.Driver!;
        var package = driver.Package;
        try
        {
            if (store.Find(folder) is { } there)
                return Outcome(ChangeStatus.Already, $"it is {there.Inf}");
            var versions = store.Listed.Where(l => l.OriginalInf.Equals(package.InfName, StringComparison.OrdinalIgnoreCase)
                && l.Provider.Equals(package.Provider, StringComparison.OrdinalIgnoreCase)
                && (l.ClassGuid == package.ClassGuid || l.ClassGuid == Guid.Empty)).ToList();
            var wanted = DriverVersions.IdsOf(options.For);
            var ids = DriverVersions.IdsOf(driver).ToList();
            if (!options.EveryVersion
                && versions.Find(v => Version.TryParse(v.Version, out var version)
                && (v.Date ?? default, version).CompareTo((package.Date, package.Version)) > 0
                && DriverVersions.Covers(v.Ids, ids, wanted)) is { } newer)
                return Outcome(ChangeStatus.Skipped, $"the image has a newer one, {newer.Version} ({newer.Inf})");
            if (store.Conflict(driver) is { } conflict)
                return Outcome(ChangeStatus.Refused, conflict);
            var before = context.Tree.BytesChanged;
            var older = versions.Where(v => Version.TryParse(v.Version, out var version) && package.IsNewerThan(v.Date ?? default, version)
                && DriverVersions.Covers(ids, v.Ids, wanted)).ToList();
            if (options.ReplaceOlder)
                older.ForEach(o => store.Remove(o));
            var published = store.Add(driver, folder);
            if (signature.State != SignatureState.Signed)
                context.UnsignedDrivers.Add(new UnsignedDriver(published, package.InfName, signature.Word, signature.Why));
            var notes = new List<string>
            {
                $"{package.Provider} {package.Class} {package.Version}, "
                + $"{(driver.IsPrimitive ? "for no device" : Devices(driver.Devices.Count))}, as {published}",
            };
            var services = driver.Services.Count > 0 ? $"service {string.Join(", ", driver.Services.Select(s => s.Name))} installed" : "";
            if (driver.IsBootCritical)
                notes.Add(services.Length > 0 ? $"boot-critical: {services}" : "boot-critical");
            else if (driver.IsPrimitive)
                notes.Add(services);
            if (older.Count > 0)
                notes.Add($"{(options.ReplaceOlder ? "in place of" : "beside the older")} "
                    + $"{string.Join(", ", older.Select(o => $"{o.Version} ({o.Inf})"))}");
            notes.Add(signature.State == SignatureState.Signed ? signature.Why : $"NOT TRUSTED, {signature.Word}: {signature.Why}");
            if (driver.LeftToWindows.Count > 0)
                notes.Add($"{(driver.IsPrimitive ? "not made, and Windows will not either" : "left to Windows")}: "
                    + $"{string.Join(", ", driver.LeftToWindows)}");
            var missing = driver.CopiedInfs.Where(n => n.Contains('/') || (package.Folder.Length(n) is null && store.Include(n) is null))
                .ToList();
            if (missing.Count > 0)
                notes.Add($"it brings {string.Join(", ", missing)}, which {(missing.Count == 1 ? "is" : "are")} not beside it");
            if (driver.MissingIncludes.Count > 0 && driver.IsBootCritical)
                notes.Add($"it includes {string.Join(", ", driver.MissingIncludes)}, which the image does not have");
            return Outcome(ChangeStatus.Done, string.Join("; ", notes)) with { Bytes = context.Tree.BytesChanged - before };
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
        {
            return Outcome(ChangeStatus.Refused, problem.Message);
        }
    }
}

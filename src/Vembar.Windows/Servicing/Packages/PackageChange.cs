using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>Puts packages into the image, in the order in which they need each other.</summary>
/// <param name="paths">Folders or zip files.</param>
public sealed class PackageChange(IReadOnlyList<string> paths) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        static ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("package", what, status, why);
        if (context.Install is not { } install)
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused, "the image holds no Windows"))];
        var outcomes = new Dictionary<string, ChangeOutcome>();
        var given = new List<(string Path, Package Package)>();
        PackageStore store;
        try
        {
            store = new PackageStore(context);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [.. paths.Select(p => Outcome(p, ChangeStatus.Refused, problem.Message))];
        }
        foreach (var path in paths.Distinct())
        {
            try
            {
                var package = Package.Read(path, context.Cancellation);
                if (package.Manifest.WhyNotFor(install) is { } unfit)
                    outcomes[path] = Outcome(path, ChangeStatus.Skipped, unfit);
                else if (store.Find(package.Manifest.Name) is { } there && there.Manifest.Version >= package.Manifest.Version)
                    outcomes[path] = Outcome(path, ChangeStatus.Already, there.Manifest.Version == package.Manifest.Version
                        ? $"{there.Title} is there" : $"the newer {there.Title} is there");
                else if (store.All.FirstOrDefault(p => p.Title.Equals($"{package.Manifest.Name} "
                    + $"{PackageManifest.Show(package.Manifest.Version)}", StringComparison.OrdinalIgnoreCase)) is { } old)
                    outcomes[path] = Outcome(path, ChangeStatus.Already, $"{old.ReplacedBy} took its place");
                else if (package.Problems(RegistryChange.CurrentSet(context)) is { Count: > 0 } problems)
                    outcomes[path] = Outcome(path, ChangeStatus.Refused, string.Join("; ", problems));
                else
                    given.Add((path, package));
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
            {
                // The first may be in the message already.
                var told = problem.Details.Count > 0 && problem.Message.Contains(problem.Details[0], StringComparison.Ordinal) ? 1 : 0;
                outcomes[path] = Outcome(path, ChangeStatus.Refused,
                    problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details.Skip(told))}" : problem.Message);
            }
        }
        // Of one package the newest.
        foreach (var older in given.Where(
            g => given.Exists(o => o.Package.Manifest.Name.Equals(g.Package.Manifest.Name, StringComparison.OrdinalIgnoreCase)
                && (o.Package.Manifest.Version > g.Package.Manifest.Version
                || (o.Package.Manifest.Version == g.Package.Manifest.Version && given.IndexOf(o) < given.IndexOf(g))))).ToList())
        {
            outcomes[older.Path] = Outcome(older.Path, ChangeStatus.Skipped, "a newer version of it, or the same, is given too");
            given.Remove(older);
        }
        foreach (var (path, package) in InOrder(given, store,
            (path, why) => outcomes.TryAdd(path, Outcome(path, ChangeStatus.Refused, why))))
        {
            try
            {
                if (store.Conflict(package) is { } conflict)
                {
                    outcomes[path] = Outcome(path, ChangeStatus.Refused, conflict);
                    continue;
                }
                var replaced = store.ReplacedBy(package.Manifest);
                var ofWindows = store.OfWindows(package);
                var before = context.Tree.BytesChanged;
                store.Add(package);
                var on = store.Find(package.Manifest.Name)!.Features.Where(f => f.IsOn).Select(f => f.Feature.Name).ToList();
                outcomes[path] = Outcome(path, ChangeStatus.Done, string.Join("; ",
                    new[]
                    {
                        $"{package.Manifest.Title} {PackageManifest.Show(package.Manifest.Version)}",
                        replaced.Count > 0 ? $"in place of {string.Join(", ", replaced.Select(r => r.Title))}" : "",
                        on.Count > 0 ? $"with {string.Join(", ", on)} on" : "",
                        package.Parts.SelectMany(p => p.FirstStart).Any() ? "has commands for the first start" : "",
                        OfWindows(ofWindows, PackageStore.IsHive, "HIVES, which the settings in them go with"),
                        OfWindows(ofWindows, p => !PackageStore.IsHive(p), "files of Windows"),
                    }.Where(t => t.Length > 0))) with
                { Bytes = context.Tree.BytesChanged - before };
            }
            catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
            {
                outcomes[path] = Outcome(path, ChangeStatus.Refused, problem.Message);
            }
        }
        return [.. paths.Distinct().Where(outcomes.ContainsKey).Select(p => outcomes[p])];
    }

    private static string OfWindows(IReadOnlyList<string> files, Func<WindowsPath, bool> which, string what)
    {
        const int Most = 5;
        var those = files.Where(f => which(WindowsPath.Parse(f))).ToList();
        var more = those.Count > Most ? $" and {those.Count - Most} more" : "";
        return those.Count == 0 ? ""
            : $"takes the place of {what}: "
            + $"{string.Join(", ", those.Take(Most))}{more}";
    }

    // What a package needs comes before it; what is missing, or needs itself, is refused with those that need it.
    private static List<(string Path, Package Package)> InOrder(List<(string Path, Package Package)> given, PackageStore store,
        Action<string, string> refuse)
    {
        var ordered = new List<(string, Package)>();
        var state = new Dictionary<string, int>();
        bool Visit((string Path, Package Package) item, List<string> way)
        {
            var name = item.Package.Manifest.Name;
            if (state.TryGetValue(item.Path, out var known) && known != 1)
                return known == 2;
            if (known == 1)
            {
                refuse(item.Path, $"its requirements go in a circle: {string.Join(" → ", way.SkipWhile(w => w != name).Append(name))}");
                return false;
            }
            state[item.Path] = 1;
            way.Add(name);
            var sound = true;
            foreach (var need in item.Package.Manifest.Requires)
            {
                if (given.FirstOrDefault(g => g.Package.Manifest.Name.Equals(need.Name, StringComparison.OrdinalIgnoreCase)
                    && g.Package.Manifest.Version >= need.Least) is { Package: not null } other)
                {
                    if (Visit(other, way))
                        continue;
                    var circle = way.SkipWhile(w => w != other.Package.Manifest.Name).Append(other.Package.Manifest.Name);
                    refuse(item.Path, state.GetValueOrDefault(other.Path) == 1
                        ? $"its requirements go in a circle: {string.Join(" → ", circle)}" : $"it needs {need}, which is refused");
                    sound = false;
                }
                else if (store.Find(need.Name) is not { } there || there.Manifest.Version < need.Least)
                {
                    var found = store.Find(need.Name) is { } old ? $"and the image has {old.Title}"
                        : "which is neither in the image nor given";
                    refuse(item.Path, $"it needs {need}, {found}");
                    sound = false;
                }
            }
            way.RemoveAt(way.Count - 1);
            state[item.Path] = sound ? 2 : 3;
            if (sound)
                ordered.Add(item);
            return sound;
        }
        foreach (var item in given)
            Visit(item, []);
        return ordered;
    }
}

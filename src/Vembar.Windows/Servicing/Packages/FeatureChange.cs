using Vembar.Common;
using Vembar.Images.Paths;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>Switches features that packages brought.</summary>
/// <param name="name">A feature's name, or a pattern of names.</param>
/// <param name="on">On or off.</param>
/// <param name="withDependents">Whether features that need one that goes off go off with it.</param>
public sealed class FeatureChange(string name, bool on, bool withDependents) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why, string? what = null) =>
            new("feature", $"{what ?? name}={(on ? "on" : "off")}", status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var store = new PackageStore(context);
            List<(InstalledPackage Package, PackageFeature Feature, bool IsOn)> All() =>
                [.. store.InUse.SelectMany(p => p.Features.Select(f => (p, f.Feature, f.IsOn)))];
            var pattern = Glob.IsPattern(name) ? Glob.Parse(name) : null;
            var wanted = All()
                .Where(f => pattern is null ? f.Feature.Name.Equals(name, StringComparison.OrdinalIgnoreCase)
                    : pattern.Matches([f.Feature.Name])).Select(f => f.Feature.Name).ToList();
            if (wanted.Count == 0)
            {
                var near = EditDistance.Nearest(name, All().Select(f => f.Feature.Name));
                var meant = near is null ? "" : $"; did you mean '{near}'?";
                return [Outcome(ChangeStatus.Refused, $"the image has no feature "
                    + $"'{name}'{meant}")];
            }
            var outcomes = new List<ChangeOutcome>();
            foreach (var feature in wanted)
            {
                var all = All();
                (InstalledPackage Package, PackageFeature Feature, bool IsOn) At(string n) =>
                    all.Find(f => f.Feature.Name.Equals(n, StringComparison.OrdinalIgnoreCase));
                if (At(feature).IsOn == on)
                {
                    outcomes.Add(Outcome(ChangeStatus.Already, $"it is {(on ? "on" : "off")}", feature));
                    continue;
                }
                var others = on ? Parents(feature, At) : Dependents(feature, all);
                if (others.Find(o => At(o).Package is null) is { } missing)
                {
                    outcomes.Add(Outcome(ChangeStatus.Refused, $"it needs the feature '{missing}', which no package in the image brings",
                        feature));
                    continue;
                }
                var switched = others.FindAll(o => At(o).IsOn != on);
                if (!on && switched.Count > 0 && !withDependents)
                {
                    var need = switched.Count == 1 ? "needs" : "need";
                    outcomes.Add(Outcome(ChangeStatus.Refused, $"{string.Join(", ", switched)} {need} it", feature) with
                    {
                        Advice = Advice.Of("with-dependents"),
                    });
                    continue;
                }
                // Parents from the top down, dependents from the bottom up, then itself; or itself last when it goes on.
                foreach (var other in switched.Append(feature))
                    store.Switch(At(other).Package, At(other).Feature, on);
                var needs = on ? "it needs" : "needed it";
                var with = switched.Count > 0 ? $"; with {string.Join(", ", switched)}, which {needs}" : "";
                outcomes.Add(Outcome(ChangeStatus.Done, $"{At(feature).Feature.Title}{with}", feature));
            }
            return outcomes;
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [Outcome(ChangeStatus.Refused, problem.Message)];
        }
    }

    private static List<string> Parents(string name, Func<string, (InstalledPackage Package, PackageFeature Feature, bool IsOn)> at)
    {
        var parents = new List<string>();
        for (var parent = at(name).Feature.Parent; parent.Length > 0
            && !parents.Contains(parent, StringComparer.OrdinalIgnoreCase); parent = at(parent).Feature?.Parent ?? "")
            parents.Insert(0, parent);
        return parents;
    }

    private static List<string> Dependents(string name, List<(InstalledPackage Package, PackageFeature Feature, bool IsOn)> all)
    {
        var dependents = new List<string>();
        void Add(string of)
        {
            foreach (var child in all.Where(f => f.Feature.Parent.Equals(of, StringComparison.OrdinalIgnoreCase) && f.IsOn
                && !dependents.Contains(f.Feature.Name)).Select(f => f.Feature.Name))
            {
                Add(child);
                dependents.Add(child);
            }
        }
        Add(name);
        return dependents;
    }
}

using System.Globalization;
using Vembar.Common;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Windows.Servicing.Tidying;

/// <summary>Takes out what is not needed any more.</summary>
/// <param name="names">The rules' names; "all" for all.</param>
public sealed class TidyChange(IReadOnlyList<string> names) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        static ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("tidy", what, status, why);
        if (context.Install is null)
            return [Outcome(string.Join(", ", names), ChangeStatus.Refused, "the image holds no Windows")];
        if (names.FirstOrDefault(n => n != "all" && !TidyRule.All.Any(r => r.Name == n)) is { } unknown)
        {
            var known = TidyRule.All.Select(r => r.Name).ToList();
            return [Outcome(unknown, ChangeStatus.Refused, $"there is no such rule{EditDistance.Hint(unknown, known.Append("all"))}")];
        }
        var outcomes = new List<ChangeOutcome>();
        foreach (var rule in TidyRule.All.Where(r => (names.Contains("all") && r.Name != TidyRule.Registry) || names.Contains(r.Name)))
        {
            var before = context.Tree.BytesChanged;
            try
            {
                var said = Tidy(context, rule);
                outcomes.Add(said is null ? Outcome(rule.Name, ChangeStatus.Already, "there is nothing of it")
                    : Outcome(rule.Name, ChangeStatus.Done, said) with { Bytes = context.Tree.BytesChanged - before });
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                outcomes.Add(Outcome(rule.Name, ChangeStatus.Refused, problem.Message));
            }
        }
        return outcomes;
    }

    private static string? Tidy(ServiceContext context, TidyRule rule)
    {
        switch (rule.Name)
        {
            case TidyRule.Packages:
                var forgotten = new PackageStore(context).ForgetReplaced();
                return forgotten.Count == 0 ? null : $"{string.Join(", ", forgotten)} cannot be brought back any more";
            case TidyRule.Drivers:
                if (DriverStore.Open(context).Store is not { } store)
                    return null;
                static Version VersionOf(ListedDriver driver) =>
                    System.Version.TryParse(driver.Version, out var version) ? version : new Version(0, 0);
                var older = store.Listed.GroupBy(d => (d.OriginalInf.ToUpperInvariant(), d.Provider.ToUpperInvariant(), d.ClassGuid))
                    .SelectMany(g => g.Where(
                        d => g.Any(n => (n.Date ?? default, VersionOf(n)).CompareTo((d.Date ?? default, VersionOf(d))) > 0
                            && DriverVersions.Covers(n.Ids, d.Ids, new HashSet<string>())))).ToList();
                foreach (var driver in older)
                    store.Remove(driver);
                return older.Count == 0 ? null : string.Join(", ", older.Select(d => $"{d.OriginalInf} {d.Version} ({d.Inf})"));
            case TidyRule.Registry:
                var hives = ((string[])["SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT", "DRIVERS", "COMPONENTS",
                    ServiceContext.NewUsers])
                    .Select(name => (Name: name, Saved: context.Compact(name))).Where(h => h.Saved > 0).ToList();
                return hives.Count == 0 ? null
                    : string.Join(", ",
                    hives.Select(h => string.Create(CultureInfo.InvariantCulture,
                    $"{(h.Name == ServiceContext.NewUsers ? "what new users get" : h.Name)} {h.Saved >> 10} KiB")));
            default:
                var away = new Removal(context);
                foreach (var pattern in rule.Patterns)
                    away.Take(pattern.StartsWith('%') ? $"{context.Install!.Folder}/{pattern[1..]}" : pattern);
                return away.Files + away.Folders == 0 ? null
                    : string.Create(CultureInfo.InvariantCulture, $"{away.Files} {(away.Files == 1 ? "file" : "files")}");
        }
    }
}

using Vembar.Common;
using Vembar.Windows.Servicing.Languages;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>Takes a package out of the image; what it replaced is back.</summary>
/// <param name="name">Its name.</param>
public sealed class PackageRemoval(string name) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("package-out", name, status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var store = new PackageStore(context);
            if (store.Find(name) is not { } package)
                return [Outcome(ChangeStatus.Already, "the image has no such package")];
            if (store.InUse.Where(p => p != package
                && p.Manifest.Requires.Any(r => r.Name.Equals(name, StringComparison.OrdinalIgnoreCase)))
                .ToList() is { Count: > 0 } dependents)
                return [Outcome(ChangeStatus.Refused, $"{string.Join(", ", dependents.Select(d => d.Title))} "
                    + $"{(dependents.Count == 1 ? "needs" : "need")} it")];
            if (InUse(context, package.Manifest.Language) is { } use)
                return [Outcome(ChangeStatus.Refused, use.Text) with { Advice = use.Advice }];
            store.Remove(package);
            var back = package.State.Replaced.Count > 0 ? $"; {string.Join(", ", package.State.Replaced)} is back" : "";
            return [Outcome(ChangeStatus.Done, $"{package.Title} is "
                + $"out{back}")];
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [Outcome(ChangeStatus.Refused, problem.Message)];
        }
    }

    // What of Windows is in a language; null when nothing is.
    private static Notice? InUse(ServiceContext context, string language)
    {
        if (language.Length == 0 || context.Hive("SYSTEM") is not { } system)
            return null;
        var settings = LocaleSettings.Read(system, context.Hive(ServiceContext.NewUsers));
        static string Primary(string name) => name.Split('-')[0];
        var others = settings.Languages.Where(l => !l.Equals(language, StringComparison.OrdinalIgnoreCase)).ToList();
        // Formats need the language in any of its countries.
        bool Needs(string locale) =>
            Primary(locale).Equals(Primary(language), StringComparison.OrdinalIgnoreCase)
            && !others.Exists(o => Primary(o).Equals(Primary(locale), StringComparison.OrdinalIgnoreCase));
        List<string> uses = [];
        if (settings.Display.Equals(language, StringComparison.OrdinalIgnoreCase))
            uses.Add("what Windows is shown in");
        if (Needs(settings.System))
            uses.Add("the system's formats");
        if (Needs(settings.User))
            uses.Add("new users' formats");
        return uses.Count == 0 ? null
            : new Notice($"{language} is in use for {string.Join(", ", uses)}",
                Advice.Of("other-locale", ("locale", others.Count > 0 ? others[0] : "NAME")));
    }
}

using System.Globalization;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Paths;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Takes out what a file of rules names, and says for each rule what it saved.</summary>
/// <param name="file">The file of rules.</param>
/// <param name="only">The names of the rules that are wanted; empty for all.</param>
public sealed class BallastChange(string file, IReadOnlyList<string> only) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        static ChangeOutcome Outcome(string what, ChangeStatus status, string why) => new("ballast", what, status, why);
        if (context.Install is null)
            return [Outcome(file, ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var rules = BallastRule.Read(file);
            if (only.FirstOrDefault(n => !rules.Any(r => r.Name.Equals(n, StringComparison.OrdinalIgnoreCase))) is { } unknown)
                return [Outcome(file, ChangeStatus.Refused, $"there is no rule '{unknown}' in it; it has "
                    + $"{string.Join(", ", rules.Select(r => r.Name))}")];
            return [.. rules.Where(r => only.Count == 0 || only.Contains(r.Name, StringComparer.OrdinalIgnoreCase)).Select(r =>
            {
                try
                {
                    return Apply(context, r);
                }
                catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
                {
                    return Outcome(r.Name, ChangeStatus.Refused,
                        problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details)}" : problem.Message);
                }
                catch (Exception failure) when (failure is not VembarException
                    && VembarException.From(failure, "read", r.Registry) is { } error)
                {
                    return Outcome(r.Name, ChangeStatus.Refused, error.Message);
                }
            })];
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Environment)
        {
            return [Outcome(file, ChangeStatus.Refused, problem.Details.Count > 0 ? $"{problem.Message}; "
                + $"{string.Join("; ", problem.Details)}" : problem.Message)];
        }
    }

    private static ChangeOutcome Apply(ServiceContext context, BallastRule rule)
    {
        // What may be wrong comes before anything is taken.
        var registry = rule.Registry.Length > 0
            ? RegFile.Parse(InputFile.ReadAllBytes(rule.Registry), rule.Registry, RegistryChange.CurrentSet(context)) : [];
        if (RegistryChange.Missing(context, registry) is { } missing)
            throw VembarException.Input("no-hive", missing);
        var before = context.Tree.BytesChanged;
        var away = new Removal(context);
        var said = new List<string>();
        void Say(int count, string one, string many)
        {
            if (count > 0)
                said.Add(string.Create(CultureInfo.InvariantCulture, $"{count} {(count == 1 ? one : many)}"));
        }
        Say(rule.Apps.Sum(a => ProvisionedApp.Remove(context, away, a)), "app", "apps");
        Say(rule.Programs.Sum(p => Programs(context, p)), "program's entry", "programs' entries");
        Say(rule.Services.Count(s => Service(context, s)), "service", "services");
        Say(rule.Tasks.Sum(t => ScheduledTask.Remove(context, away, t)), "task", "tasks");
        foreach (var path in rule.Paths)
            away.Take(path);
        Say(RegistryChange.MakeAll(context, registry.Select(l => l.Edit)), "registry change", "registry changes");
        if (away.Files > 0)
            said.Add(string.Create(CultureInfo.InvariantCulture, $"{away.Files} {(away.Files == 1 ? "file" : "files")}"));
        else if (away.Folders > 0)
            said.Add("empty folders");
        return said.Count == 0
            ? new ChangeOutcome("ballast", rule.Name, ChangeStatus.Already, $"{rule.Title}: nothing of it is in the image")
            : new ChangeOutcome("ballast", rule.Name, ChangeStatus.Done, $"{rule.Title}: {string.Join(", ", said)}")
            {
                Bytes = context.Tree.BytesChanged - before,
            };
    }

    // Both views of the list of programs.
    private static int Programs(ServiceContext context, string pattern)
    {
        const string Uninstall = @"Microsoft\Windows\CurrentVersion\Uninstall";
        var name = Glob.ParseName(pattern);
        var count = 0;
        foreach (var list in (string[])[Uninstall, @"WOW6432Node\" + Uninstall])
        {
            foreach (var key in (context.Hive("SOFTWARE")?.Key(list)?.Subkeys
                ?? []).Where(k => k.GetString("DisplayName") is { } displayName && name.Matches([displayName])))
            {
                key.Delete();
                context.MarkModified("SOFTWARE");
                count++;
            }
        }
        return count;
    }

    private static bool Service(ServiceContext context, string name)
    {
        if (name.Contains('\\') || context.Hive("SYSTEM")?.Key($@"{RegistryChange.CurrentSet(context)}\Services\{name}") is not { } key)
            return false;
        key.Delete();
        context.MarkModified("SYSTEM");
        return true;
    }
}

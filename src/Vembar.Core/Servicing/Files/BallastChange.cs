using System.Globalization;
using Vembar.Core.Servicing.Registry;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Files;

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
                return [Outcome(file, ChangeStatus.Refused, $"there is no rule '{unknown}' in it; it has {string.Join(", ", rules.Select(r => r.Name))}")];
            return [.. rules.Where(r => only.Count == 0 || only.Contains(r.Name, StringComparer.OrdinalIgnoreCase)).Select(r =>
            {
                try
                {
                    return Apply(context, r);
                }
                catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
                {
                    return Outcome(r.Name, ChangeStatus.Refused, problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details)}" : problem.Message);
                }
                catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", r.Registry) is { } error)
                {
                    return Outcome(r.Name, ChangeStatus.Refused, error.Message);
                }
            })];
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Surroundings)
        {
            return [Outcome(file, ChangeStatus.Refused, problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details)}" : problem.Message)];
        }
    }

    private static ChangeOutcome Apply(ServiceContext context, BallastRule rule)
    {
        // What may be wrong comes before anything is taken.
        var registry = rule.Registry.Length > 0 ? RegFile.Parse(InputFile.ReadAllBytes(rule.Registry), rule.Registry, RegistryChange.CurrentSet(context)) : [];
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
        return said.Count == 0 ? new ChangeOutcome("ballast", rule.Name, ChangeStatus.Already, $"{rule.Title}: nothing of it is in the image")
            : new ChangeOutcome("ballast", rule.Name, ChangeStatus.Done, $"{rule.Title}: {string.Join(", ", said)}") { Bytes = context.Tree.BytesChanged - before };
    }

    // Both views of the list of programs.
    private static int Programs(ServiceContext context, string pattern)
    {
        const string Uninstall = @"Microsoft\Windows\CurrentVersion\Uninstall";
        var name = Glob.ParseName(pattern);
        var count = 0;
        foreach (var list in (string[])[Uninstall, @"WOW6432Node\" + Uninstall])
        {
            foreach (var key in (context.Hive("SOFTWARE")?.Key(list)?.Subkeys ?? []).Where(k => k.GetString("DisplayName") is { } shown && name.Matches([shown])))
            {
                key.Delete();
                context.Touch("SOFTWARE");
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
        context.Touch("SYSTEM");
        return true;
    }
}

/// <summary>Files and folders that are taken out, counted.</summary>
internal sealed class Removal(ServiceContext context)
{
    public long Files { get; private set; }

    public long Folders { get; private set; }

    /// <summary>Takes a path, or all that matches a pattern; the folders above stay.</summary>
    public void Take(string pattern)
    {
        foreach (var node in Glob.IsPattern(pattern) ? RemoveChange.Matching(context.Tree, pattern) : context.Tree.Find(WindowsPath.Parse(pattern)) is { Parent: not null } one ? [one] : [])
            Take(node);
    }

    public void Take(TreeEditor.Node node)
    {
        Folders += node.Entry.Kind == EntryKind.Folder ? 1 : 0;
        Files += context.Tree.Remove(node).Files;
    }
}

/// <summary>An app package that every new user gets.</summary>
/// <param name="FullName">NAME_VERSION_ARCHITECTURE_RESOURCE_PUBLISHER.</param>
/// <remarks>
/// Source: the vendor's "Package identity" for the parts of the name. That an app is provisioned stands in SOFTWARE
/// …\AppxAllUserStore\Applications; Deprovisioned keeps updates of Windows from bringing it back.
/// </remarks>
public sealed record ProvisionedApp(string FullName)
{
    private const string Store = @"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";
    private const string Files = "Program Files/WindowsApps", Repository = "ProgramData/Microsoft/Windows/AppRepository";

    private string[] Parts => FullName.Split('_');

    /// <summary>Its name ("Demo.Games").</summary>
    public string Name => Parts[0];

    /// <summary>Its version; empty when the full name has none.</summary>
    public string Version => Parts.Length > 1 ? Parts[1] : "";

    /// <summary>Name and publisher: the same for all versions and parts.</summary>
    public string Family => $"{Parts[0]}_{Parts[^1]}";

    /// <summary>The apps of an install, by name.</summary>
    public static IReadOnlyList<ProvisionedApp> Read(RegistryHive software) =>
        [.. (software.Key($@"{Store}\Applications")?.Subkeys ?? []).Select(k => new ProvisionedApp(k.Name)).OrderBy(a => a.FullName, StringComparer.OrdinalIgnoreCase)];

    /// <summary>Takes apps out: their provisioning and their files.</summary>
    /// <returns>How many were there.</returns>
    internal static int Remove(ServiceContext context, Removal away, string pattern)
    {
        if (context.Hive("SOFTWARE") is not { } software)
            return 0;
        var name = Glob.ParseName(pattern);
        var families = Read(software).Where(a => name.Matches([a.Name])).Select(a => a.Family).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        foreach (var family in families)
        {
            bool IsOfIt(string full) => full.Contains('_') && new ProvisionedApp(full).Family.Equals(family, StringComparison.OrdinalIgnoreCase);
            foreach (var list in (string[])["Applications", "Staged", "InboxApplications"])
            {
                foreach (var key in (software.Key($@"{Store}\{list}")?.Subkeys ?? []).Where(k => IsOfIt(k.Name)))
                    key.Delete();
            }
            software.Root.Ensure($@"{Store}\Deprovisioned\{family}");
            context.Touch("SOFTWARE");
            foreach (var folder in (string[])[Files, Repository, $"{Repository}/Packages"])
            {
                var path = WindowsPath.Parse(folder);
                foreach (var file in context.Tree.Names(path).Where(n => IsOfIt(n.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) ? n[..^4] : n)).ToList())
                    away.Take(context.Tree.Find(path.Child(file))!);
            }
        }
        return families.Count;
    }
}

/// <summary>Scheduled tasks: a file in System32/Tasks, and what the scheduler keeps in SOFTWARE.</summary>
internal static class ScheduledTask
{
    private const string Cache = @"Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache";

    /// <summary>Takes tasks out.</summary>
    /// <returns>How many were there.</returns>
    public static int Remove(ServiceContext context, Removal away, string pattern)
    {
        var root = context.Windows("System32/Tasks");
        var wanted = pattern.Replace('\\', '/').Trim('/');
        var found = Glob.IsPattern(wanted) ? RemoveChange.Matching(context.Tree, $"{root}/{wanted}") : context.Tree.Find(root.Append(WindowsPath.Parse(wanted))) is { } one ? [one] : [];
        foreach (var node in found)
        {
            var path = string.Join('\\', node.Path.Parts.Skip(root.Parts.Count));
            away.Take(node);
            if (context.Hive("SOFTWARE") is not { } software || software.Key($@"{Cache}\Tree\{path}") is not { } entry)
                continue;
            if (entry.GetString("Id") is { Length: > 0 } id && !id.Contains('\\'))
            {
                foreach (var list in (string[])["Tasks", "Boot", "Logon", "Plain", "Maintenance"])
                    software.Key($@"{Cache}\{list}\{id}")?.Delete();
            }
            entry.Delete();
            context.Touch("SOFTWARE");
        }
        return found.Count;
    }
}

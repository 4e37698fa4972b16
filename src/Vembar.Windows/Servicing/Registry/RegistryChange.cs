using System.Globalization;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Registry;

/// <summary>Makes the changes of a .reg file in the image's hives.</summary>
/// <param name="path">The file.</param>
public sealed class RegistryChange(string path) : IChange
{
    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("registry", path, status, why);
        if (context.Install is null)
            return [Outcome(ChangeStatus.Refused, "the image holds no Windows")];
        try
        {
            var lines = RegFile.Parse(InputFile.ReadAllBytes(path), path, CurrentSet(context), context.Cancellation);
            if (Missing(context, lines) is { } missing)
                return [Outcome(ChangeStatus.Refused, missing)];
            var made = MakeAll(context, lines.Select(l => l.Edit));
            return [made > 0 ? Outcome(ChangeStatus.Done, Said(lines.Select(l => l.Edit), made))
                : Outcome(ChangeStatus.Already, "the registry is so")];
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return [Outcome(ChangeStatus.Refused,
                problem.Details.Count > 0 ? $"{problem.Message}; {string.Join("; ", problem.Details)}" : problem.Message)];
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", path) is { } error)
        {
            return [Outcome(ChangeStatus.Refused, error.Message)];
        }
    }

    /// <summary>The name of the control set that Windows starts with.</summary>
    internal static string CurrentSet(ServiceContext context) =>
        context.Hive("SYSTEM") is { } system && WindowsInstall.ControlSet(system) is { } set ? set.Name : "ControlSet001";

    /// <summary>Which hive is not there, in words; null when all are.</summary>
    internal static string? Missing(ServiceContext context, IEnumerable<RegLine> lines)
    {
        if (lines.FirstOrDefault(l => context.Hive(l.Edit.Root) is null) is not { } line)
            return null;
        var root = line.Edit.Root;
        var at = string.Create(CultureInfo.InvariantCulture, $"line {line.Line}");
        if (!UserProfiles.IsUser(root))
            return $"{at}: the image has no hive {root}";
        var users = UserProfiles.All(context.Hive("SOFTWARE"));
        var known = users.Count > 0 ? $"it has {string.Join(", ", users)}" : "it has none";
        return users.Contains(root, StringComparer.OrdinalIgnoreCase) ? $"{at}: the hive of the user {root} is not where ProfileList says"
            : $"{at}: the image has no user {root}; {known}";
    }

    /// <summary>Makes changes that are not made yet.</summary>
    /// <returns>How many were not.</returns>
    internal static int MakeAll(ServiceContext context, IEnumerable<RegistryEdit> edits)
    {
        var made = 0;
        // Changes of one key come one behind the other; it is looked for once.
        (string Root, string Subkey)? at = null;
        RegistryKey? key = null;
        // Values of that key that get other data: each may take the room that another gives up.
        var changed = new Dictionary<string, RegistryEdit>(StringComparer.OrdinalIgnoreCase);
        void SetChanged()
        {
            if (changed.Count > 1)
            {
                foreach (var name in changed.Keys)
                    key!.GiveUpData(name);
            }
            foreach (var edit in changed.Values.OrderByDescending(e => e.Bytes.Length))
                key!.Set(edit.Name, edit.Type, edit.Bytes);
            changed.Clear();
        }
        foreach (var edit in edits)
        {
            context.Cancellation.ThrowIfCancellationRequested();
            var root = context.Hive(edit.Root)!.Root;
            if (changed.Count > 0
                && (at != (edit.Root, edit.Subkey) || edit.Kind != RegistryEditKind.Set || changed.ContainsKey(edit.Name)))
                SetChanged();
            if (at != (edit.Root, edit.Subkey))
                (at, key) = ((edit.Root, edit.Subkey), root.Key(edit.Subkey));
            if (edit.IsMadeIn(key))
                continue;
            context.MarkModified(edit.Root);
            made++;
            if (edit.Kind == RegistryEditKind.Set && key?.Get(edit.Name) is not null)
            {
                changed[edit.Name] = edit;
                continue;
            }
            edit.ApplyIn(root, key);
            if (key is null || edit.Kind == RegistryEditKind.DeleteKey)
                at = null;
        }
        SetChanged();
        return made;
    }

    private static string Said(IEnumerable<RegistryEdit> edits, int made)
    {
        var all = edits.ToList();
        var hives = string.Join(", ", all.Select(e => e.Root == ServiceContext.NewUsers ? "what new users get" : e.Root).Distinct());
        return string.Create(CultureInfo.InvariantCulture,
            $"{all.Count(e => e.Kind == RegistryEditKind.Set)} values set, "
            + $"{all.Count(e => e.Kind is RegistryEditKind.DeleteValue or RegistryEditKind.DeleteKey)} removed in {hives}; {made} of "
            + $"{all.Count} were different before");
    }
}

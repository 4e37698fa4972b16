using System.Globalization;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Cli.Commands.Station;

/// <summary>Machines, as people see them.</summary>
internal static class MachinePage
{
    /// <summary>What people call a machine.</summary>
    public static string Name(MachineInfo machine) => machine.Assignment.Name.Length > 0 ? machine.Assignment.Name : machine.Id;

    /// <summary>All machines, a row each.</summary>
    public static void List(IReadOnlyList<MachineInfo> machines, Session session)
    {
        if (machines.Count == 0)
        {
            Session.Line("No machine.");
            return;
        }
        var table = new Table("Machine", "Name", "!State", "~Model", "~Site", "Image", ">Done", "~>Left", "~Seen", "Remark");
        foreach (var machine in machines)
        {
            var progress = machine.Progress;
            table.Row(machine.Id, machine.Assignment.Name, Word(machine.State), machine.Model, machine.Assignment.Site,
                machine.Title.Length > 0 ? machine.Title : machine.Assignment.Image,
                progress is { Total: > 0 } ? string.Create(CultureInfo.InvariantCulture, $"{100.0 * progress.Done / progress.Total:0} %")
                : "",
                progress is { SecondsLeft: > 0 } ? Text.Duration(progress.SecondsLeft) : "", Ago(machine.Seen),
                progress is { Phase: var phase } ? phase : machine.Remark);
        }
        table.Print(session);
        Session.Line();
        var states = machines.GroupBy(m => m.State).OrderBy(g => g.Key).Select(g => $"{g.Count()} {Word(g.Key)}");
        Session.Line($"{Text.Count(machines.Count, "machine")}: {string.Join(", ", states)}.");
    }

    private static string Word(MachineState state) => state.ToString().ToLowerInvariant();

    private static string Ago(DateTime? seen) => seen is not { } time ? "never" : (DateTime.UtcNow - time) switch
    {
        { TotalSeconds: < 60 } => "now",
        { TotalMinutes: < 60 } ago => $"{(int)ago.TotalMinutes} min ago",
        { TotalHours: < 24 } ago => $"{(int)ago.TotalHours} h ago",
        _ => Text.Time(time),
    };

    /// <summary>One machine with all that is known of it.</summary>
    public static void Show(MachineDetail detail, Session session)
    {
        var (machine, report) = (detail.Machine, detail.Report);
        Session.Line($"{Name(machine)} ({machine.Id}) is {Word(machine.State)} since {Text.Time(machine.Since)}"
            + (machine.Remark.Length > 0 ? $": {machine.Remark}" : ""));
        Field("Model", machine.Model);
        Field("Serial", machine.Identity.Serial);
        Field("UUID", machine.Identity.Uuid);
        Field("Addresses", string.Join(", ", machine.Identity.Addresses));
        Field("Site", machine.Assignment.Site);
        Field("Image", machine.Assignment.Image);
        Field("User files", machine.Assignment.UserFiles);
        Field("Starter", machine.Assignment.Starter);
        Field("Runs", report is { Starter.Length: > 0 } ? $"starter {report.Starter}" : "");
        Field("Fills in", string.Join(", ", machine.Assignment.Fills));
        Field("Task", machine.Task is { } task ? $"{task.ToString().ToLowerInvariant()} {machine.Title}" : "");
        if (machine.Progress is { } progress)
            Field("Progress",
                $"{progress.Phase}, {(progress.InBytes ? $"{Text.Size(progress.Done)} of {Text.Size(progress.Total)}" : "")}");
        if (report is not null)
        {
            Field("Firmware", $"{report.Firmware}{(report.SecureBoot ? ", secure boot on" : "")}, {report.Architecture}, "
                + $"{Text.Size(report.Memory)} of memory");
            foreach (var disk in report.Disks)
            {
                Field("Disk", $"{disk.Path} {disk.Model}".TrimEnd() + $", {Text.Size(disk.Bytes)}");
                foreach (var line in disk.Contents)
                    Field("", $"  {line}");
            }
        }
        if (detail.Drivers.Count > 0)
        {
            Session.Line();
            var table = new Table("Device", "!Driver", "Needed");
            foreach (var device in detail.Drivers)
                table.Row(device.Device, device.Driver.Length > 0 ? device.Driver : "none", device.Needed ? "yes" : "");
            table.Print(session);
        }
        foreach (var refusal in detail.Refusals)
            Session.Line($"In the way: {refusal.Text} ({refusal.Code})");
        if (detail.Outcome is not { } outcome)
            return;
        Session.Line();
        if (outcome is { Done: true, Result: { } result })
            Result(result);
        else
            Session.Line($"The last task failed: {outcome.Problem}. {outcome.Hint}".TrimEnd());
    }

    private static void Field(string name, string value)
    {
        if (value.Length > 0)
            Session.Line($"  {name,-10} {value}");
    }

    /// <summary>What became of a machine.</summary>
    public static void Result(MachineResult result)
    {
        var total = result.Phases.Sum(p => p.Seconds);
        if (result.ComputerName.Length > 0)
        {
            Session.Line($"{result.ComputerName} has {result.Title}: {Text.Count(result.Files, "file")}, {Text.Size(result.Bytes)}, in "
                + $"{Text.Duration(total)}{(result.ReadBack ? ", read back" : "")}.");
            if (result.Heard + result.Asked > 0)
                Session.Line($"It heard {Text.Size(result.Heard)} of its wave, and asked for {Text.Size(result.Asked)}.");
            if (result.Resumed > 0)
                Session.Line($"It went on with a run that was broken off: {Text.Count(result.Resumed, "file")} of it were whole.");
        }
        else
        {
            Session.Line($"Captured as image {result.Title}: {Text.Count(result.Files, "file")}, {Text.Size(result.Bytes)}; the archive "
                + $"grew by {Text.Size(result.BytesStored)}, in {Text.Duration(total)}.");
        }
        var without = result.Drivers.Where(d => d.Driver.Length == 0).ToList();
        if (result.Drivers.Count > 0)
            Session.Line($"{result.Drivers.Count - without.Count} of {Text.Count(result.Drivers.Count, "device")} have a driver"
                + (without.Count > 0 ? $"; none for {string.Join(", ", without.Select(d => d.Device))}." : "."));
        if (result.Programs.Count > 0)
            Session.Line($"Programs: {string.Join(", ", result.Programs)}.");
        foreach (var laid in result.UserFiles)
            Session.Line($"User files of {laid.Account}: {Text.Count(laid.Files, "file")}, {Text.Size(laid.Bytes)}, in {laid.To}"
                + (laid.IsProfile ? ", the account's profile." : "."));
        foreach (var check in result.Checks.Where(c => !c.IsSo))
            Session.Line($"Not as expected ({check.Severity}): {check.Text}{(check.Found.Length > 0 ? $": {check.Found}" : "")}");
        if (result.IsChecked)
            Session.Line(result.Checks.Count == 1 ? "The expectation is met."
                : $"All {Text.Number(result.Checks.Count)} expectations are met.");
    }

    /// <summary>What happened, a line each.</summary>
    public static void Events(IReadOnlyList<MachineEvent> events)
    {
        foreach (var happened in events)
        {
            var level = happened.Level == "info" ? "" : $"{happened.Level}: ";
            var who = happened.Who.Length > 0 ? $" ({happened.Who})" : "";
            Session.Line($"{Text.ExactTime(happened.Time)}  {happened.Kind,-9} "
                + $"{level}{happened.Text}{who}");
        }
    }
}

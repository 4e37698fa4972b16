using Vembar.Cli.Json;
using Vembar.Operations.Survey;

namespace Vembar.Cli.Commands.Survey;

internal static class SurveyCommand
{
    public static VembarCommand Create()
    {
        var source = SharedOptions.Source();
        var damaged = SharedOptions.AcceptDamaged();
        var chain = SharedOptions.AllowChain();
        var report = SharedOptions.Report();
        return new VembarCommand("survey",
            "Say what a disk or folder holds: its volumes, the Windows installs on them, and what a capture would take",
            "vembar survey vembar-demo/disks/lending-desk.vhdx", "vembar survey vembar-demo/references/lending-desk",
            "vembar survey /dev/sdb --json")
            .With(source, damaged, chain, report).Does(async (parse, session) =>
            {
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                var result = await session.Do(new SurveyHandler(session.Host), new SurveyRequest(parse.GetRequiredValue(source),
                    SharedOptions.Reading(parse, chain, damaged)));
                page?.Write(SurveyPage.Of(result, session.Host.Clock.GetUtcNow().UtcDateTime));
                session.Warn(result.Warnings);
                var json = new SurveyJson(result.Source,
                    result.Disk is { } disk ? new DiskJson(disk.Scheme, disk.Format, disk.Bytes, disk.SectorSize) : null,
                    [.. result.Volumes.Select(v => new VolumeJson(v.Number, v.Start, v.Length, v.FileSystem, v.Label, v.Used, v.Role,
                    v.Problem, CliJson.From(v.Windows), v.Take?.Files, v.Take?.Bytes, v.Take?.Excluded, v.Take?.Compacted))],
                    result.Warnings);
                session.Result(json, json => json.SurveyJson, () => Show(result, session));
                return ExitCode.Done;
            });
    }

    private static void Show(SurveyResult result, Session session)
    {
        if (result.Disk is { } disk)
        {
            var divided = disk.Scheme == "none" ? "not divided" : $"divided by {disk.Scheme.ToUpperInvariant()}";
            Session.Line($"{result.Source}: {disk.Format}, {Text.Size(disk.Bytes)}, "
                + $"{divided}, sectors of "
                + $"{disk.SectorSize} bytes");
            Session.Line();
            var table = new Table(">Volume", "Holds", "~File system", "~Label", ">Size", "~>Used", "What");
            foreach (var volume in result.Volumes)
            {
                var what = volume.Problem.Length > 0 ? volume.Problem
                    : volume.Windows is { } found ? $"{found.Product}, build {found.Build}, {found.State}" : "";
                table.Row($"{volume.Number}", volume.Role, volume is { Role: "reserved", FileSystem: "unknown" } ? "" : volume.FileSystem,
                    volume.Label, Text.Size(volume.Length), volume.Used is { } used ? Text.Size(used) : "", what);
            }
            table.Print(session);
            Session.Line();
        }
        var installs = result.Volumes.Where(v => v.Windows is not null).ToList();
        foreach (var volume in installs)
        {
            var windows = volume.Windows!;
            if (installs.Count > 1)
                Session.Line($"== Volume {volume.Number}");
            Fields.Print(session,
                ("Windows", $"{windows.Product}, build {windows.Build}, {windows.Architecture}"),
                ("edition", windows.Edition),
                ("languages", string.Join(", ", windows.Languages)),
                ("computer name", windows.ComputerName),
                ("state", Fields.State(windows.State)),
                ("programs", Text.Number(volume.Programs)));
            Session.Line();
        }
        if (installs.Count == 0)
            Session.Line($"No Windows was found in '{result.Source}'.");
        foreach (var volume in result.Volumes.Where(v => v.Take is not null))
        {
            var take = volume.Take!;
            var unreadable = take.Excluded.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal)).ToList();
            var ofVolume = result.Volumes.Count > 1 ? $" of volume {volume.Number}" : "";
            var left = take.Excluded.Count - unreadable.Count;
            var leaves = left > 0 ? $", and leave out {Text.Count(left, "entry", "entries")} that Windows recreates" : "";
            Session.Line($"A capture{ofVolume} would take {Text.Count(take.Files, "file")}, {Text.Size(take.Bytes)}{leaves}.");
            if (take.Compacted.Files > 0)
                Session.Line($"Of these, {Text.Compacted(take.Compacted)}; they are captured as their plain content.");
            if (unreadable.Count > 0)
                Session.Line($"{Text.Count(unreadable.Count, "file")} cannot be read, such as '{unreadable[0].Path}': "
                    + $"{unreadable[0].Rule}. With --skip-unreadable a capture leaves them out.");
        }
    }
}

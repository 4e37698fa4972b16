using System.CommandLine;
using Vembar.Core;
using Vembar.Core.Operations;

namespace Vembar.Cli.Commands;

internal static class HistoryCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        return new VembarCommand("history", "List the states that an archive went through since it was last compacted", "vembar history desks.vmb", "vembar history desks.vmb --json")
            .With(archive).Does((parse, session) =>
            {
                var path = parse.GetRequiredValue(archive);
                var states = HistoryOperation.Run(path, out var problems);
                session.Warn(problems);
                session.Result(new HistoryJson(path, [.. states.Select(From)]), json => json.HistoryJson, () =>
                {
                    var table = new Table(">State", "Time", "Change", ">Images", ">File until there");
                    foreach (var state in states)
                        table.Row($"{state.Number}", Text.Time(state.Time), state.Problem.Length > 0 ? $"damaged: {state.Problem}" : state.Change, $"{state.Images.Count}", Text.Size(state.End));
                    table.Print(session);
                });
                return ExitCode.Done;
            });
    }

    internal static StateJson From(ArchiveState state) => new(state.Number, state.Time, state.Change, state.End, [.. state.Images.Select(i => new StateImageJson(i.Number, i.Name))], state.Problem);
}

internal static class RewindCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        var to = new Option<long>("--to") { Description = "The state to go back to, by its number in `vembar history`", HelpName = "STATE", Required = true };
        var wait = SharedOptions.Wait();
        return new VembarCommand("rewind", "Go back to an earlier state of an archive, by a further one that lists the same images; it can be taken back too", "vembar rewind desks.vmb --to 2")
            .With(archive, to, wait).Does((parse, session) =>
            {
                var path = parse.GetRequiredValue(archive);
                var state = HistoryOperation.Rewind(path, parse.GetValue(to), TimeSpan.FromSeconds(parse.GetValue(wait)), cancellation: session.Cancellation);
                session.Result(new RewindJson(path, HistoryCommand.From(state)), json => json.RewindJson, () =>
                {
                    Session.Line($"{path} lists what it did in state {state.Number} ({state.Change}):");
                    foreach (var (number, name) in state.Images)
                        Session.Line($"  {number}  {name}");
                    if (state.Images.Count == 0)
                        Session.Line("  no images");
                });
                return ExitCode.Done;
            });
    }
}

internal static class RetitleCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var name = new Option<string?>("--name") { Description = "The new name", HelpName = "NAME" };
        var version = new Option<string?>("--version") { Description = "The new version", HelpName = "TEXT" };
        var edition = new Option<string?>("--edition") { Description = "The new edition", HelpName = "TEXT" };
        var note = new Option<string?>("--note") { Description = "The new remark", HelpName = "TEXT" };
        var labels = new Option<string[]>("--label") { Description = "Set a label; an empty value takes it away; may be given several times", HelpName = "KEY=VALUE", DefaultValueFactory = _ => [] };
        var wait = SharedOptions.Wait();
        return new VembarCommand("retitle", "Change name, version, edition, remark and labels of an image",
            "vembar retitle desks.vmb#1 --name \"Lending desk, pilot\" --version 2026.10", "vembar retitle desks.vmb#2 --label site= --label ring=pilot")
            .With(image, name, version, edition, note, labels, wait).Does((parse, session) =>
            {
                var reference = ImageReference.Parse(parse.GetRequiredValue(image));
                var record = RetitleOperation.Run(new RetitleRequest
                {
                    Image = reference,
                    Name = parse.GetValue(name),
                    Version = parse.GetValue(version),
                    Edition = parse.GetValue(edition),
                    Note = parse.GetValue(note),
                    Labels = SharedOptions.Pairs(parse.GetRequiredValue(labels), "--label", "KEY=VALUE"),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                }, cancellation: session.Cancellation);
                session.Result(new ImageJson(reference.Archive.Path, record), json => json.ImageJson, () => Session.Line($"Image {record.Number} of {reference.Archive} is now \"{record.Name}\"{(record.Version.Length > 0 ? $", version {record.Version}" : "")}."));
                return ExitCode.Done;
            });
    }
}

internal static class CompactCommand
{
    public static VembarCommand Create()
    {
        var archive = SharedOptions.Archive("The archive");
        var effort = new Option<string?>("--effort") { Description = "Compress everything anew", HelpName = "quick|balanced|dense" }.AcceptOnlyFromAmong("quick", "balanced", "dense");
        var wait = SharedOptions.Wait();
        return new VembarCommand("compact", "Rewrite an archive without what no image needs; earlier states go", "vembar compact desks.vmb", "vembar compact desks.vmb --effort dense")
            .With(archive, effort, wait, SharedOptions.Base).Does((parse, session) =>
            {
                var result = CompactOperation.Run(
                    SharedOptions.PlaceOf(parse, archive), parse.GetValue(effort) is { } word ? SharedOptions.EffortOf(word) : null, TimeSpan.FromSeconds(parse.GetValue(wait)), session.Progress, session.Cancellation);
                session.Result(new CompactJson(result.Archive, result.Images, result.Before, result.After, result.Seconds), json => json.CompactJson,
                    () => Session.Line($"{result.Archive} holds {Text.Count(result.Images, "image")} in {Text.Size(result.After)}; it had {Text.Size(result.Before)}; took {Text.Duration(result.Seconds)}."));
                return ExitCode.Done;
            });
    }
}

internal static class DiffCommand
{
    public static VembarCommand Create()
    {
        var from = SharedOptions.Image("FROM");
        var to = SharedOptions.Image("TO");
        return new VembarCommand("diff", "Say what differs between two images: files, registry values, programs, drivers",
            "vembar diff desks.vmb#1 desks.vmb#3", "vembar diff august.vmb#\"Reading room\" desks.vmb#\"Reading room\" --json")
            .With(from, to, SharedOptions.Base).Does((parse, session) =>
            {
                var result = DiffOperation.Run(SharedOptions.ImageOf(parse, from), SharedOptions.ImageOf(parse, to), session.Cancellation);
                session.LongResult(() => Json(result), json => json.DiffJson, () => Show(result, session));
                return ExitCode.Done;
            });
    }

    private static DiffJson Json(DiffResult result) => new(
        result.From, result.To, result.Same, result.Added, result.Removed, result.Changed, result.Registry ?? [], result.Programs, result.Drivers, result.Packages,
        result.Features);

    private static void Show(DiffResult result, Session session)
    {
        if (result.Same)
        {
            Session.Line("The two images are the same.");
            return;
        }
        static string Top(string path) => path.Split('/') is [var first, _, ..] ? first + "/" : path;
        var tops = result.Added.Select(p => (Top: Top(p), Kind: 0)).Concat(result.Removed.Select(p => (Top: Top(p), Kind: 1))).Concat(result.Changed.Select(c => (Top: Top(c.Path), Kind: 2))).GroupBy(t => t.Top, StringComparer.Ordinal);
        var table = new Table("Where", ">Added", ">Removed", ">Changed");
        foreach (var top in tops.OrderBy(t => t.Key, StringComparer.Ordinal))
            table.Row(top.Key, Text.Number(top.Count(t => t.Kind == 0)), Text.Number(top.Count(t => t.Kind == 1)), Text.Number(top.Count(t => t.Kind == 2)));
        table.Print(session);
        Section("Added", result.Added, path => ("+", path, ""));
        Section("Removed", result.Removed, path => ("-", path, ""));
        Section("Changed", result.Changed, c => ("*", c.Path, string.Join(", ", c.What)));
        Section("Registry", result.Registry ?? [], v => (SignOf(v.What), $@"{v.Hive}\{v.Key}", v.Value switch { null => "the key", "" => "(default)", var name => name }));
        Section("Programs", Names(result.Programs), line => line);
        Section("Drivers", Names(result.Drivers), line => line);
        Section("Packages", Names(result.Packages), line => line);
        Section("Features", Names(result.Features), line => line);
    }

    private static string SignOf(string what) => what switch { "added" => "+", "removed" => "-", _ => "*" };

    private static List<(string, string, string)> Names(ChangedNames? names) =>
        names is null ? [] : [.. names.Added.Select(n => ("+", n, "")), .. names.Removed.Select(n => ("-", n, ""))];

    // A terminal shows how a long list begins; a pipe gets all of it.
    private static void Section<T>(string heading, IReadOnlyList<T> lines, Func<T, (string Sign, string What, string Detail)> show)
    {
        const int OnTerminal = 15;
        if (lines.Count == 0)
            return;
        Session.Line();
        Session.Line($"== {heading} ({Text.Number(lines.Count)})");
        foreach (var (sign, what, detail) in lines.Take(Console.IsOutputRedirected ? int.MaxValue : OnTerminal).Select(show))
            Session.Line($"{sign} {what}{(detail.Length > 0 ? $"  ({detail})" : "")}");
        if (!Console.IsOutputRedirected && lines.Count > OnTerminal)
            Session.Line($"  and {Text.Number(lines.Count - OnTerminal)} more; pipe the output to see all");
    }
}

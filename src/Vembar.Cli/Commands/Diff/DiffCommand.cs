using System.CommandLine;
using Vembar.Operations.Diff;

namespace Vembar.Cli.Commands.Diff;

internal static class DiffCommand
{
    public static VembarCommand Create()
    {
        var from = SharedOptions.Image("FROM");
        var to = SharedOptions.Image("TO");
        var exit = new Option<bool>("--exit-code") { Description = "End with 1 where they differ" };
        var report = SharedOptions.Report();
        return new VembarCommand("diff", "Say what differs between two images: files, registry values, programs, drivers",
            "vembar diff desks.vmb#1 desks.vmb#3", "vembar diff august.vmb#\"Reading room\" desks.vmb#\"Reading room\" --json")
            .With(from, to, exit, report, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var page = OutputFile.At(parse.GetValue(report), session, Page.Mark);
                var result = await session.Do(new DiffHandler(session.Host),
                    new DiffRequest(SharedOptions.ImageOf(parse, from, session), SharedOptions.ImageOf(parse, to, session)));
                page?.Write(DiffPage.Of(result, session.Host.Clock.GetUtcNow().UtcDateTime));
                session.LongResult(() => Json(result), json => json.DiffJson, () => Show(result, session));
                return parse.GetValue(exit) && !result.Same ? ExitCode.NotInOrder : ExitCode.Done;
            });
    }

    private static DiffJson Json(DiffResult result) => new(
        result.From, result.To, result.Same, result.Added, result.Removed, result.Changed, result.Registry ?? [], result.Programs,
        result.Drivers, result.Packages,
        result.Features);

    private static void Show(DiffResult result, Session session)
    {
        if (result.Same)
        {
            Session.Line("The two images are the same.");
            return;
        }
        var table = new Table("Where", ">Added", ">Removed", ">Changed");
        foreach (var (top, added, removed, changed) in Tops(result))
            table.Row(top, Text.Number(added), Text.Number(removed), Text.Number(changed));
        table.Print(session);
        Section("Added", result.Added, path => ("+", path, ""));
        Section("Removed", result.Removed, path => ("-", path, ""));
        Section("Changed", result.Changed, c => ("*", c.Path, string.Join(", ", c.What)));
        Section("Registry", result.Registry ?? [],
            v => (SignOf(v.What), $@"{v.Hive}\{v.Key}", v.Value switch { null => "the key", "" => "(default)", var name => name }));
        Section("Programs", Names(result.Programs), line => line);
        Section("Drivers", Names(result.Drivers), line => line);
        Section("Packages", Names(result.Packages), line => line);
        Section("Features", Names(result.Features), line => line);
    }

    /// <summary>How many paths differ in each folder of the root.</summary>
    public static IEnumerable<(string Top, int Added, int Removed, int Changed)> Tops(DiffResult result)
    {
        // A folder itself counts with what is in it.
        static string Top(string path) => path.Split('/')[0] is { Length: > 0 } first ? first : "/";
        return result.Added.Select(p => (Top: Top(p), Kind: 0)).Concat(result.Removed.Select(p => (Top: Top(p), Kind: 1)))
            .Concat(result.Changed.Select(c => (Top: Top(c.Path), Kind: 2))).GroupBy(t => t.Top, StringComparer.Ordinal)
            .OrderBy(t => t.Key, StringComparer.Ordinal)
            .Select(t => (t.Key, t.Count(p => p.Kind == 0), t.Count(p => p.Kind == 1), t.Count(p => p.Kind == 2)));
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
        {
            var details = detail.Length > 0 ? $"  ({detail})" : "";
            Session.Line($"{sign} {what}{details}");
        }
        if (!Console.IsOutputRedirected && lines.Count > OnTerminal)
            Session.Line($"  and {Text.Number(lines.Count - OnTerminal)} more; pipe the output to see all");
    }
}

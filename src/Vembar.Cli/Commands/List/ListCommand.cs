using System.CommandLine;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Cli.Commands.List;

internal static class ListCommand
{
    public static VembarCommand Create()
    {
        var archives = new Argument<string[]>("ARCHIVE")
        {
            Description = "The archive, or several; the project file's where none is named",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var all = new Option<bool>("--all") { Description = "List also what is held back or retired" };
        var where = new Option<string[]>("--where")
        {
            Description = "List those alone of which a column or a label has a value ('*' and '?' match): site=valley, channel=pilot, "
            + "state=held|retired|locked|generalized; may be given several times",
            HelpName = "KEY=VALUE",
            DefaultValueFactory = _ => [],
        };
        var sort = new Option<string?>("--sort")
        {
            Description = "Sort by a column, with '-' before it the other way round; otherwise the versions of a name stand together, "
            + "newest first",
            HelpName = "[-]COLUMN",
        };
        var columns = new Option<string?>("--columns")
        {
            Description = $"Show these columns, of {string.Join(", ", ListColumn.All.Select(c => c.Key))}",
            HelpName = "COLUMN,…",
        };
        return new VembarCommand("list", "List the images of archives", "vembar list desks.vmb", "vembar list desks.vmb --all --json",
            "vembar list desks.vmb kiosks.vmb --where channel=pilot",
            "vembar list desks.vmb --sort -adds --columns number,name,version,adds")
            .With(archives, all, where, sort, columns, SharedOptions.AtState).Does((parse, session) =>
            {
                var by = parse.GetValue(sort);
                var selection = new ListSelection
                {
                    All = parse.GetValue(all),
                    Filters = [.. parse.GetRequiredValue(where).Select(ListFilter.Parse)],
                    Sort = by is null ? null : ListSelection.Column(by.TrimStart('-')),
                    IsDescending = by?.StartsWith('-') ?? false,
                };
                var shown = parse.GetValue(columns)?.Split(',').Select(ListSelection.Column).ToList();
                var paths = parse.GetValue(archives) is { Length: > 0 } named ? named : [SharedOptions.ArchiveOf(null, session)];
                var places = paths.Select(p => SharedOptions.PlaceOf(parse, p, session)).ToArray();
                return places.Length == 1 ? One(places[0], selection, shown, session) : Several(places, selection, shown, session);
            });
    }

    private static int One(ArchiveLocation path, ListSelection selection, List<ListColumn>? columns, Session session)
    {
        using var reader = ArchiveReader.Open(path, session.Host.Files);
        session.Warn(UncommittedTail(reader));
        session.Result(Json(reader, selection), json => json.ListJson, () => Show(reader, selection, columns, session));
        return ExitCode.Done;
    }

    // Each is listed, whatever is the matter with another.
    private static int Several(ArchiveLocation[] paths, ListSelection selection, List<ListColumn>? columns, Session session)
    {
        var lists = new List<ListJson>();
        var code = ExitCode.Done;
        foreach (var path in paths)
        {
            try
            {
                using var reader = ArchiveReader.Open(path, session.Host.Files);
                session.Warn(UncommittedTail(reader));
                lists.Add(Json(reader, selection));
                if (!session.IsTold)
                    continue;
                if (lists.Count > 1)
                    Session.Line();
                Session.Line($"{path}:");
                Show(reader, selection, columns, session);
            }
            catch (VembarException problem)
            {
                code = Math.Max(code, ExitCode.For(problem.Kind));
                lists.Add(new ListJson(path.Path, Guid.Empty, 0, 0, [], [], [], 0) { Error = Errors.Body(problem) });
                if (!session.Json)
                    Errors.Tell(problem, json: false, session.Verbose);
            }
        }
        if (session.Json)
            session.Result(new ListsJson(lists), json => json.ListsJson, () => { });
        return code;
    }

    private static ListJson Json(ArchiveReader reader, ListSelection selection)
    {
        var images = selection.Of(reader.Images, out var hidden);
        return new ListJson(reader.Path, reader.Header.Id, reader.FileLength, reader.UncommittedTail,
            [.. reader.Header.Bases.Select(b => new BaseJson(b.Id, b.Name))],
            selection.Sort is null ? [.. images.OrderBy(i => i.Number)] : images, reader.LostImages, hidden);
    }

    internal static IEnumerable<string> UncommittedTail(ArchiveReader reader) => reader.IsNewerStateDamaged ? []
        : reader.IsRecordSingle
        ? [$"the end of '{reader.Path}' is missing or was not written; its last state is whole, and the next change completes it"]
        : reader.UncommittedTail == 0 ? [] :
        [$"the last {Text.Number(reader.UncommittedTail)} bytes of '{reader.Path}' belong to no finished state: a run was interrupted, "
        + $"or the file was cut short"];

    private static void Show(ArchiveReader reader, ListSelection selection, List<ListColumn>? columns, Session session)
    {
        var images = selection.Of(reader.Images, out var hidden);
        if (reader.Images.Count + reader.LostImages.Count == 0)
            Session.Line($"{reader.Path} holds no images.");
        else if (images.Count == 0 && hidden == 0)
            Session.Line($"No image of {reader.Path} is so.");
        else if (images.Count > 0)
            PrintTable(images, columns, selection, session);
        if (hidden > 0)
        {
            var are = hidden == 1 ? "is" : "are";
            Session.Line($"{Text.Count(hidden, "image")} held back or retired {are} not listed; --all lists them.");
        }
        foreach (var lost in reader.LostImages)
            Session.Line($"Image {lost.Number} cannot be read: {lost.Problem}. Heal it with `vembar verify {reader.Path} --repair-from "
                + $"COPY`.");
        foreach (var based in reader.Header.Bases)
            Session.Line($"Based on {Text.Safe(based.Name)} ({based.Id}): what that one holds is not stored here.");
        if (!Console.IsOutputRedirected)
        {
            Session.Line();
            Session.Line($"{reader.Path} is {Text.Size(reader.FileLength)}; its images hold {Text.Size(reader.Images.Sum(i => i.Bytes))}.");
        }
    }

    private static void PrintTable(IReadOnlyList<ImageRecord> images, List<ListColumn>? named, ListSelection selection, Session session)
    {
        var columns = named ?? ListColumn.Standard(images);
        var table = new Table([.. columns.Select(c => named is not null ? c.Heading.TrimStart('~') : c.Heading)]);
        var before = "";
        foreach (var image in images)
        {
            // In a pipe each line stands for itself.
            var repeats = selection.Sort is null && !Console.IsOutputRedirected
                && image.Name.Equals(before, StringComparison.OrdinalIgnoreCase);
            table.Row([.. columns.Select(c => repeats && c.Key == "name" ? "" : c.Show(image))]);
            before = image.Name;
        }
        table.Print(session);
    }
}

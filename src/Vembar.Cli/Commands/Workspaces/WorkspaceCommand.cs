using System.CommandLine;
using Vembar.Cli.Commands.Service;
using Vembar.Common;
using Vembar.Operations.Workspaces;

namespace Vembar.Cli.Commands.Workspaces;

internal static class WorkspaceCommand
{
    public static VembarCommand Create()
    {
        var command = new VembarCommand("workspace", "Lay an image open in a folder, work on it with any tool, save what changed",
            "vembar workspace open desks.vmb#1 work", "vembar workspace status work",
            "vembar workspace save work --as \"Lending desk, by hand\"", "vembar workspace close work");
        var folder = new Argument<string>("DIR") { Description = "The workspace's folder" };
        var archive = new Option<string?>("--archive")
        {
            Description = "The archive, where it is not any more where it was",
            HelpName = "FILE",
        };

        var image = SharedOptions.Image();
        var only = new Option<string[]>("--only")
        {
            Description = "Lay open this path with what is below it, and not all; may be given several times",
            HelpName = "PATH",
            DefaultValueFactory = _ => [],
        };
        command.Subcommands.Add(new VembarCommand("open", "Lay an image open in a new or empty folder", "vembar workspace open "
            + "desks.vmb#1 work", "vembar workspace open desks.vmb#\"Reading room\" work --only Users/Public --only Windows/Web")
            .With(image, folder, only, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var opened = await session.Do(new WorkspaceOpenHandler(session.Host), new WorkspaceOpenRequest(
                    SharedOptions.ImageOf(parse, image, session), parse.GetRequiredValue(folder), parse.GetRequiredValue(only)));
                session.Warn(opened.Warnings);
                session.Result(new WorkspaceOpenJson(opened.Folder, opened.Image, opened.Files, opened.Bytes, opened.Seconds,
                    opened.Warnings), json => json.WorkspaceOpenJson, () =>
                {
                    Session.Line($"Image {opened.Image.Number} \"{opened.Image.Name}\" lies open in {opened.Folder}: "
                        + $"{Text.Count(opened.Files, "file")}, {Text.Size(opened.Bytes)}, in {Text.Duration(opened.Seconds)}.");
                    Session.Line($"What Linux cannot hold of them is in {Path.Combine(opened.Folder, WorkspaceOpened.OwnFolder)}. "
                        + $"See what you changed with 'vembar workspace status {opened.Folder}'.");
                });
                return ExitCode.Done;
            }));

        command.Subcommands.Add(new VembarCommand("status", "Tell what was changed in a workspace", "vembar workspace status work")
            .With(folder, archive).Does(async (parse, session) =>
            {
                var status = await session.Do(new WorkspaceStatusHandler(session.Host),
                    new WorkspaceStatusRequest(parse.GetRequiredValue(folder), parse.GetValue(archive)));
                session.Warn(status.Warnings.Select(AdviceText.Of));
                session.Result(Json(status), json => json.WorkspaceStatusJson, () => Show(status, session));
                return status.Problems.Count > 0 ? ExitCode.NotInOrder : ExitCode.Done;
            }));

        var name = new Option<string?>("--as") { Description = "Save as a new image", HelpName = "NAME" };
        var inPlace = new Option<bool>("--in-place") { Description = "Let it take the image's place" };
        var removals = new Option<bool>("--accept-removals") { Description = "It is meant that more than half of the files are gone" };
        var title = new TitleOptions();
        var effort = SharedOptions.Effort();
        var wait = SharedOptions.Wait();
        command.Subcommands.Add(new VembarCommand("save", "Save what was changed in a workspace; only that is read and stored",
            "vembar workspace save work --as \"Lending desk, by hand\"", "vembar workspace save work --in-place")
            .With(folder, name, inPlace, title.Version, title.Note, title.Labels, removals, archive, effort, wait)
            .Does(async (parse, session) =>
            {
                if ((parse.GetValue(name) is not null) == parse.GetValue(inPlace))
                    throw new VembarException(ErrorKind.Usage, "as-or-in-place",
                        parse.GetValue(inPlace) ? "--as and --in-place exclude each other" : "it was not said where the result goes",
                        "Give --as NAME for a new image, or --in-place to replace the one that was laid open.");
                var saved = await session.Do(new WorkspaceSaveHandler(session.Host), new WorkspaceSaveRequest
                {
                    Folder = parse.GetRequiredValue(folder),
                    As = parse.GetValue(name),
                    Archive = parse.GetValue(archive),
                    Title = title.Of(parse, session),
                    AcceptRemovals = parse.GetValue(removals),
                    Effort = SharedOptions.EffortOf(parse.GetRequiredValue(effort)),
                    Wait = TimeSpan.FromSeconds(parse.GetValue(wait)),
                });
                session.Warn([.. saved.Status.Warnings.Select(AdviceText.Of), .. saved.Notes]);
                session.Result(new WorkspaceSaveJson(saved.Status.Archive, saved.Image, saved.Written, saved.BytesStored, saved.Seconds,
                    Json(saved.Status), saved.Notes), json => json.WorkspaceSaveJson, () =>
                {
                    if (saved.Status.Changes.Count > 0)
                        Table(saved.Status, session);
                    Session.Line(saved.Written
                        ? $"Image {saved.Image.Number} {saved.Image.Title} is in {saved.Status.Archive}; the archive grew by "
                        + $"{Text.Size(saved.BytesStored)}{Text.Took(saved.Seconds)}."
                        : "Nothing was changed, so nothing was saved.");
                });
                return ExitCode.Done;
            }));

        var loseChanges = new Option<bool>("--lose-changes") { Description = "Lose what was not saved" };
        command.Subcommands.Add(new VembarCommand("close", "Take a workspace's folder away; what was not saved keeps it",
            "vembar workspace close work", "vembar workspace close work --lose-changes")
            .With(folder, loseChanges, archive).Does(async (parse, session) =>
            {
                var path = parse.GetRequiredValue(folder);
                var lost = await session.Do(new WorkspaceCloseHandler(session.Host),
                    new WorkspaceCloseRequest(path, parse.GetValue(loseChanges), parse.GetValue(archive)));
                session.Result(new WorkspaceCloseJson(path, lost), json => json.WorkspaceCloseJson,
                    () =>
                    {
                        var were = lost == 1 ? "was not saved and is" : "were not saved and are";
                        var gone = lost > 0 ? $"; {Text.Count(lost, "change")} {were} gone" : "";
                        Session.Line($"{path} is closed{gone}.");
                    });
                return ExitCode.Done;
            }));
        return command;
    }

    private static WorkspaceStatusJson Json(WorkspaceStatus status) => new(
        status.Folder, status.Archive, status.Image, status.Only,
        [.. status.Changes.Select(c => new WorkspaceChangeJson(c.Kind.ToString().ToLowerInvariant(), c.Path,
        c.From.Length > 0 ? c.From : null, c.What, c.Bytes))],
        status.Problems, [.. status.Warnings.Select(AdviceText.Of)], status.FilesRead, status.Seconds);

    private static void Table(WorkspaceStatus status, Session session)
    {
        var table = new Table("Change", "Path", "What", ">Bytes");
        foreach (var change in status.Changes)
            table.Row(change.Kind.ToString().ToLowerInvariant(), change.Path,
                string.Join("; ", new[] { change.From.Length > 0 ? $"from {change.From}" : "",
                string.Join(", ", change.What) }.Where(t => t.Length > 0)), ServicePage.Bytes(change.Bytes));
        table.Print(session);
        Session.Line();
    }

    private static void Show(WorkspaceStatus status, Session session)
    {
        if (status.Changes.Count > 0)
            Table(status, session);
        foreach (var problem in status.Problems)
            Session.Line($"In the way of saving: {problem}");
        var only = status.Only.Count > 0 ? $" ({string.Join(", ", status.Only)})" : "";
        var of = $"image {status.Image.Number} \"{status.Image.Name}\" of "
            + $"{status.Archive}{only}";
        Session.Line(status.Changes.Count == 0 ? $"Nothing was changed; it is {of}."
            : $"{Text.Count(status.Changes.Count, "change")} to {of}; {Text.Count(status.FilesRead, "file")} read, in "
            + $"{Text.Duration(status.Seconds)}.");
    }
}

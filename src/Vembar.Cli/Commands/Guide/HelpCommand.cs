using System.CommandLine;
using System.Text;
using Vembar.Cli.Manual;
using Vembar.Common;

namespace Vembar.Cli.Commands.Guide;

/// <summary><c>vembar help</c>: the help of a command, as its own <c>--help</c> shows it, or a text on a subject; manual pages of
/// both.</summary>
internal static class HelpCommand
{
    public static VembarCommand Create()
    {
        var words = new Argument<string[]>("COMMAND|SUBJECT")
        {
            Description = "The command, with its subcommand where it has some, or a subject; without one, all of them are listed",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var pages = new Option<string?>("--man-pages")
        {
            Description = "Write manual pages of all commands and subjects into DIR, below man1 and man7",
            HelpName = "DIR",
        };
        var command = new VembarCommand("help", "Show the help of a command, or a text on a subject", "vembar help capture",
            "vembar help workspace save", "vembar help orders").With(words, pages);
        command.SetAction((parse, _) => parse.GetValue(pages) is { } folder
            ? Session.RunAsync(parse, session => Task.FromResult(WritePages(folder, parse, session)))
            : Task.FromResult(Show(parse, parse.GetValue(words) ?? [])));
        return command;
    }

    // Whatever a project file says, help is given.
    private static int Show(ParseResult parse, string[] named)
    {
        var root = (RootCommand)parse.RootCommandResult.Command;
        if (named is [var subject] && root.Subcommands.All(c => c.Name != subject) && Topic.All.Any(t => t.Term == subject))
        {
            Console.Out.Write(new HelpPage(Help.Width, Help.HasStyles(parse)).Of(Topic.Read(subject)));
            return ExitCode.Done;
        }
        Command at = root;
        foreach (var word in named)
        {
            at = at.Subcommands.FirstOrDefault(c => c.Name == word) ?? throw new VembarException(
                ErrorKind.Usage, "no-such-command",
                at is RootCommand ? $"there is no command or subject '{word}'" : $"'{at.Name}' has no command '{word}'",
                EditDistance.Nearest(word, at.Subcommands.Select(c => c.Name).Concat(at is RootCommand
                    ? Topic.All.Select(t => t.Term) : [])) is { } near ? $"Did you mean '{near}'?" : VembarCommand.HelpOf(at));
        }
        return Help.Show(at, root, parse);
    }

    private static int WritePages(string folder, ParseResult parse, Session session)
    {
        var root = (RootCommand)parse.RootCommandResult.Command;
        var pages = new Dictionary<string, string>();
        foreach (var command in CommandManual.All(root))
        {
            var manual = new CommandManual(command, root);
            var related = command.Subcommands.Where(c => !c.Hidden).Select(c => $"{ManPage.NameOf(manual)}-{c.Name} (1)")
                .Concat(manual.IsProgram ? Topic.All.Select(t => $"{CommandManual.Program}-{t.Term} (7)")
                : [$"{CommandManual.Program} (1)"]);
            pages[$"man1/{ManPage.NameOf(manual)}.1"] = ManPage.Of(manual, VersionAction.Version, related);
        }
        foreach (var topic in Topic.All)
            pages[$"man7/{CommandManual.Program}-{topic.Term}.7"] = ManPage.Of(topic, Topic.Read(topic.Term), VersionAction.Version);
        var files = new List<(OutputFile File, string Text)>();
        foreach (var (name, text) in pages)
        {
            var path = Path.Combine(folder, name);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            files.Add((OutputFile.At(path, session, ManPage.Mark)!, text));
        }
        files.ForEach(f => f.File.Write(f.Text));
        session.Result(new ManPagesJson(folder, [.. pages.Keys]), json => json.ManPagesJson,
            () => Session.Line($"{Text.Count(pages.Count, "manual page")} in {folder}."));
        return ExitCode.Done;
    }
}

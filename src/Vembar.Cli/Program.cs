using System.CommandLine;
using Vembar.Cli.Commands.Answers;
using Vembar.Cli.Commands.Capture;
using Vembar.Cli.Commands.Check;
using Vembar.Cli.Commands.Compact;
using Vembar.Cli.Commands.Copy;
using Vembar.Cli.Commands.Demo;
using Vembar.Cli.Commands.Deploy;
using Vembar.Cli.Commands.Diff;
using Vembar.Cli.Commands.Drivers;
using Vembar.Cli.Commands.Drop;
using Vembar.Cli.Commands.Features;
using Vembar.Cli.Commands.Files;
using Vembar.Cli.Commands.Guide;
using Vembar.Cli.Commands.History;
using Vembar.Cli.Commands.List;
using Vembar.Cli.Commands.Mark;
using Vembar.Cli.Commands.Orders;
using Vembar.Cli.Commands.Packages;
using Vembar.Cli.Commands.Places;
using Vembar.Cli.Commands.Projects;
using Vembar.Cli.Commands.Ready;
using Vembar.Cli.Commands.Retitle;
using Vembar.Cli.Commands.Service;
using Vembar.Cli.Commands.Show;
using Vembar.Cli.Commands.Sign;
using Vembar.Cli.Commands.Starters;
using Vembar.Cli.Commands.Station;
using Vembar.Cli.Commands.Survey;
using Vembar.Cli.Commands.Take;
using Vembar.Cli.Commands.UserData;
using Vembar.Cli.Commands.Verify;
using Vembar.Cli.Commands.Workspaces;
using Vembar.Common;

namespace Vembar.Cli;

internal static class Program
{
    private static async Task<int> Main(string[] args)
    {
        Native.Posix.HoldStandardStreams();
        StandardStream.Install();
        args = Arguments.AsGiven(args);
        var root = Root();
        var parse = root.Parse(args);
        if (parse.Action is System.CommandLine.Invocation.ParseErrorAction || (parse.Errors.Count > 0 && parse.Action is null))
            return Wrong(parse, args, root);
        try
        {
            return await parse.InvokeAsync(new InvocationConfiguration
            {
                EnableDefaultExceptionHandler = false,
                ProcessTerminationTimeout = null,
            }).ConfigureAwait(false);
        }
        catch (VembarException error)
        {
            // Help, and whatever else no session stands around.
            Errors.Tell(error, json: false, verbose: false);
            return ExitCode.For(error.Kind);
        }
    }

    internal static RootCommand Root()
    {
        var root = new RootCommand(
            "Capture Windows reference installs into archives of numbered images, service them offline, deploy them.");
        foreach (var option in CommonOptions.All)
            root.Options.Add(option);
        foreach (var command in (VembarCommand[])
        [
            SurveyCommand.Create(), ReadyCommand.Create(), CheckCommand.Create(), CaptureCommand.Create(),
            ListCommand.Create(), ShowCommand.Create(), FilesCommand.Create(),
            TakeCommand.Create(), DiffCommand.Create(), VerifyCommand.Create(), CopyCommand.Create(),
            RetitleCommand.Create(), MarkCommand.Create(), SignCommand.Create(), DropCommand.Create(),
            HistoryCommand.Create(), RewindCommand.Create(), CompactCommand.Create(),
            ServiceCommand.Create(), OrderCommand.Create(), WorkspaceCommand.Create(),
            DriversCommand.Create(), PackageCommand.Create(), FeaturesCommand.Create(),
            AnswersCommand.Create(),
            InitCommand.Create(), SitesCommand.Create(), SyncCommand.Create(), LoginCommand.Create(), LogoutCommand.Create(),
            CacheCommand.Create(),
            DeployCommand.Create(), UserDataCommand.Create(), StationCommand.Create(), StarterCommand.Create(), DemoCommand.Create(),
            CompletionCommand.Create(),
            HelpCommand.Create(),
        ])
            root.Subcommands.Add(command);
        Help.Install(root);
        return root;
    }

    private static string Message(System.CommandLine.Parsing.ParseError error)
    {
        var message = string.Join(' ', error.Message.Split((char[])['\n', '\t', ' '], StringSplitOptions.RemoveEmptyEntries)).TrimEnd('.');
        return error.SymbolResult is System.CommandLine.Parsing.OptionResult { Option.Name: var name }
            && !message.Contains(name, StringComparison.Ordinal) ? $"{name}: {message}" : message;
    }

    // The library's own error page prints the whole help; one line that says what is wrong serves better.
    private static int Wrong(ParseResult parse, string[] args, RootCommand root)
    {
        var command = parse.CommandResult.Command;
        var messages = parse.Errors.Select(Message).Distinct().ToList();
        var hint = VembarCommand.HelpOf(command);
        var word = parse.UnmatchedTokens is [var first, ..] ? first : null;
        if (command == root && args.Length == 0)
            messages = ["say what to do"];
        else if (word is not null)
        {
            var known = word.StartsWith('-') ? command.Options.Concat(root.Options).Select(o => o.Name)
                : command == root ? root.Subcommands.Select(c => c.Name) : [];
            var near = known.Where(n => EditDistance.Distance(n, word) <= Math.Max(2, word.Length / 3))
                .MinBy(n => EditDistance.Distance(n, word));
            messages = [command == root && !word.StartsWith('-') ? $"there is no command '{word}'"
                : $"'{command.Name}' does not take '{word}'"];
            if (near is not null)
                hint = $"Did you mean '{near}'? {hint}";
        }
        Errors.Tell(
            new VembarException(ErrorKind.Usage, "bad-command-line",
            messages.Count == 1 ? messages[0] : $"{messages.Count} things are wrong with the command line", hint,
            messages.Count > 1 ? messages : []),
            args.Contains("--json"), verbose: false);
        return ExitCode.Usage;
    }
}

using System.CommandLine;
using Vembar.Cli.Commands.Answers;
using Vembar.Cli.Commands.Builds;
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
using Vembar.Cli.Commands.Report;
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
        var mistakes = new Mistakes(parse, root);
        if (parse.Action is System.CommandLine.Invocation.ParseErrorAction || mistakes.IsOptionMisspelt
            || (parse.Errors.Count > 0 && parse.Action is null))
        {
            // Without a word on what to do: what there is to do.
            if (IsUnfinished(parse, args))
                return Unfinished(parse, root);
            Errors.Tell(mistakes.Error(), args.Contains("--json"), verbose: false);
            return ExitCode.Usage;
        }
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
        foreach (var (group, commands) in ((string, VembarCommand[])[])
        [
            ("Look at a reference", [SurveyCommand.Create(), ReadyCommand.Create()]),
            ("Make images", [CaptureCommand.Create(), BuildCommand.Create(), BuildsCommand.Create(), RecipeCommand.Create()]),
            ("Look into archives", [ListCommand.Create(), ShowCommand.Create(), FilesCommand.Create(), TakeCommand.Create(),
                DiffCommand.Create(), CheckCommand.Create(), ReportCommand.Create()]),
            ("Change images", [ServiceCommand.Create(), OrderCommand.Create(), WorkspaceCommand.Create(), DriversCommand.Create(),
                PackageCommand.Create(), FeaturesCommand.Create(), AnswersCommand.Create()]),
            ("Versions and places", [RetitleCommand.Create(), MarkCommand.Create(), SignCommand.Create(), CopyCommand.Create(),
                InitCommand.Create(), SitesCommand.Create(), SyncCommand.Create(), LoginCommand.Create(), LogoutCommand.Create(),
                CacheCommand.Create()]),
            ("Deploy", [DeployCommand.Create(), UserDataCommand.Create(), StationCommand.Create(), StarterCommand.Create()]),
            ("Look after archives", [VerifyCommand.Create(), HistoryCommand.Create(), RewindCommand.Create(), DropCommand.Create(),
                CompactCommand.Create()]),
            ("Learn", [DemoCommand.Create(), HelpCommand.Create(), CompletionCommand.Create()]),
        ])
        {
            foreach (var command in commands)
            {
                command.Group = group;
                root.Subcommands.Add(command);
            }
        }
        Help.Install(root);
        return root;
    }

    // Nothing is wrong but that a command is still to be named.
    private static bool IsUnfinished(ParseResult parse, string[] args) => parse.UnmatchedTokens.Count == 0 && !args.Contains("--json")
        && parse.CommandResult.Command is { Subcommands.Count: > 0, Action: null } command
        && (args.Length == 0 || args[^1] == command.Name);

    private static int Unfinished(ParseResult parse, RootCommand root)
    {
        Help.Show(parse.CommandResult.Command, root, parse, brief: true);
        return ExitCode.Usage;
    }
}

using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;
using Vembar.Cli.Commands.Guide;
using Vembar.Cli.Manual;

namespace Vembar.Cli;

/// <summary>Shows our own help in the place of the library's.</summary>
internal static class Help
{
    private const int Narrowest = 60, Widest = 120, OfFiles = 100;

    public static void Install(RootCommand root)
    {
        var option = root.Options.OfType<HelpOption>().Single();
        option.Description = "Show help";
        foreach (var alias in (string[])["-?", "/?", "/h"])
            option.Aliases.Remove(alias);
        option.Action = new Shown();
        if (root.Options.OfType<VersionOption>().SingleOrDefault() is { } version)
        {
            version.Description = "Show the version, the commit, and the libraries";
            version.Action = new VersionAction();
        }
    }

    /// <summary>Prints the help of a command.</summary>
    /// <param name="command">The command.</param>
    /// <param name="root">The program.</param>
    /// <param name="parse">Whether it is to be plain.</param>
    /// <param name="brief">Whether what every command has is left out.</param>
    public static int Show(Command command, RootCommand root, ParseResult parse, bool brief = false)
    {
        Console.Out.Write(new HelpPage(Width, HasStyles(parse)).Of(new CommandManual(command, root), Topic.All, brief));
        return ExitCode.Done;
    }

    /// <summary>How wide texts are.</summary>
    public static int Width => Console.IsOutputRedirected ? OfFiles : Math.Clamp(Console.WindowWidth, Narrowest, Widest);

    /// <summary>Whether texts may be emphasised.</summary>
    public static bool HasStyles(ParseResult parse) => !Console.IsOutputRedirected && !parse.GetValue(CommonOptions.Plain)
        && string.IsNullOrEmpty(Environment.GetEnvironmentVariable("NO_COLOR"));

    private sealed class Shown : SynchronousCommandLineAction
    {
        public override int Invoke(ParseResult parseResult) => Show(parseResult.CommandResult.Command,
            (RootCommand)parseResult.RootCommandResult.Command, parseResult);
    }
}

using System.CommandLine;
using Vembar.Common;

namespace Vembar.Cli.Commands.Guide;

/// <summary><c>vembar help</c>: the help of a command, as its own <c>--help</c> shows it.</summary>
internal static class HelpCommand
{
    public static VembarCommand Create()
    {
        var words = new Argument<string[]>("COMMAND")
        {
            Description = "The command, with its subcommand where it has some; without one, all commands are listed",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var command = new VembarCommand("help", "Show the help of a command", "vembar help capture",
            "vembar help workspace save").With(words);
        command.SetAction(parse =>
        {
            var named = parse.GetValue(words) ?? [];
            Command at = parse.RootCommandResult.Command;
            foreach (var word in named)
            {
                at = at.Subcommands.FirstOrDefault(c => c.Name == word) ?? throw new VembarException(
                    ErrorKind.Usage, "no-such-command",
                    at is RootCommand ? $"there is no command '{word}'" : $"'{at.Name}' has no command '{word}'",
                    EditDistance.Nearest(word, at.Subcommands.Select(c => c.Name)) is { } near ? $"Did you mean '{near}'?"
                    : VembarCommand.HelpOf(at));
            }
            return parse.RootCommandResult.Command.Parse([.. named, "--help"]).Invoke();
        });
        return command;
    }
}

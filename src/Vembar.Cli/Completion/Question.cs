using System.CommandLine;

namespace Vembar.Cli.Completion;

/// <summary>An operand or an option's value that is being written.</summary>
/// <param name="Command">The command.</param>
/// <param name="Symbol">The operand or option.</param>
/// <param name="Word">What there is of it.</param>
/// <param name="Parse">What stands before it.</param>
internal sealed record Question(Command Command, Symbol Symbol, string Word, ParseResult Parse)
{
    /// <summary>How help names it: FILE, IMAGE and so on.</summary>
    public string Name => Symbol switch
    {
        Option option => option.HelpName ?? "",
        Argument argument => argument.HelpName ?? argument.Name,
        _ => "",
    };

    /// <summary>The first operand that was given; empty where none was.</summary>
    public string First => Command.Arguments.FirstOrDefault() is { } first && Parse.GetResult(first) is { Tokens: [var token, ..] }
        ? token.Value : "";
}

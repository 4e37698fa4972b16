using System.CommandLine;
using System.CommandLine.Parsing;
using System.Globalization;
using Vembar.Cli.Completion;
using Vembar.Cli.Manual;
using Vembar.Common;

namespace Vembar.Cli;

/// <summary>Says in one line each what is wrong with a command line, and how it is written; the library's own error page would print the
/// whole help.</summary>
internal sealed class Mistakes(ParseResult parse, RootCommand root)
{
    private readonly Command _command = parse.CommandResult.Command;

    /// <summary>The error that tells of them.</summary>
    public VembarException Error()
    {
        var word = MisspeltOption ?? (parse.UnmatchedTokens.Count > 0 ? parse.UnmatchedTokens[0] : null);
        var found = (word is not null ? [Unknown(word)] : parse.Errors.SelectMany(Of)).Distinct().ToList();
        var hints = found.Where(f => f.Hint.Length > 0).Select(f => f.Hint).Append(VembarCommand.HelpOf(_command)).Distinct().ToList();
        return new VembarException(ErrorKind.Usage, "bad-command-line",
            found.Count == 1 ? found[0].Text : $"{found.Count} things are wrong with the command line",
            found.Count == 1 ? string.Join(' ', hints) : hints[^1],
            found.Count == 1 ? [] : [.. found.Select(f => f.Hint.Length > 0 ? $"{f.Text}. {f.Hint}" : f.Text)]);
    }

    /// <summary>Whether an option that nobody knows was taken for an operand.</summary>
    public bool IsOptionMisspelt => MisspeltOption is not null;

    // The library takes an option that it does not know for an operand, where there may be more of those. What stands behind "--" is one.
    private string? MisspeltOption
    {
        get
        {
            var end = parse.Tokens.TakeWhile(t => t.Type != TokenType.DoubleDash).ToHashSet();
            return parse.CommandResult.Children.OfType<ArgumentResult>().SelectMany(a => a.Tokens)
                .FirstOrDefault(t => t.Value.Length > 1 && t.Value.StartsWith('-') && end.Contains(t))?.Value;
        }
    }

    private string Title => new CommandManual(_command, root).Title;

    // A word that has no place.
    private (string Text, string Hint) Unknown(string word)
    {
        if (word.StartsWith('-'))
        {
            var options = _command.Options.Concat(root.Options).Where(o => !o.Hidden).Select(o => o.Name);
            return ($"'{Title}' does not take '{word}'", Meant(word, options));
        }
        if (_command.Subcommands.Count > 0 && _command.Arguments.Count == 0)
            return (_command == root ? $"there is no command '{word}'" : $"'{Title}' has no command '{word}'",
                Meant(word, _command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name)));
        return ($"'{Title}' does not take '{word}'", InImage(word));
    }

    private static string Meant(string word, IEnumerable<string> known) =>
        EditDistance.Nearest(word, known) is { } near ? $"Did you mean '{near}'?" : "";

    // An image's number that stands apart, or a name that the shell divided.
    private string InImage(string word)
    {
        var before = parse.Tokens.TakeWhile(t => t.Value != word).LastOrDefault()?.Value ?? "";
        if (!_command.Arguments.Any(a => a.Name == "IMAGE"))
            return "";
        if (before.Contains('#', StringComparison.Ordinal))
        {
            var mark = before.LastIndexOf('#');
            var rest = string.Join(' ', parse.UnmatchedTokens.TakeWhile(t => !t.StartsWith('-')));
            return $"A name with spaces stands between quotes: {before[..mark]}#\"{before[(mark + 1)..]} {rest}\".";
        }
        return int.TryParse(word, CultureInfo.InvariantCulture, out _) && File.Exists(before) ? $"Did you mean '{before}#{word}'?" : "";
    }

    private IEnumerable<(string Text, string Hint)> Of(ParseError error) => error.SymbolResult switch
    {
        OptionResult { Implicit: false } option => [Of(option, error)],
        ArgumentResult { Parent: OptionResult { Implicit: false } option } => [Of(option, error)],
        ArgumentResult { Tokens.Count: > 0 } argument when Choices(argument.Argument, argument.Tokens) is { } choice => [choice],
        _ when Missing().ToList() is { Count: > 0 } missing => missing,
        _ => [(Plain(error), "")],
    };

    // Operands and options that have to be there.
    private IEnumerable<(string Text, string Hint)> Missing()
    {
        if (_command is { Action: null, Subcommands.Count: > 0 })
            yield return ($"'{Title}' needs a command",
                $"One of {string.Join(", ", _command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name))}.");
        foreach (var argument in _command.Arguments.Where(a => a.Arity.MinimumNumberOfValues > (parse.GetResult(a)?.Tokens.Count ?? 0)))
            yield return ($"'{Title}' needs {CommandManual.Operand(argument)}", Described(argument.Description));
        foreach (var option in _command.Options.Where(o => o.Required && parse.GetResult(o) is null or { Implicit: true }))
            yield return ($"'{Title}' needs {CommandManual.Term(option)}", Described(option.Description));
    }

    private static string Described(string? description) => string.IsNullOrEmpty(description) ? ""
        : $"{CommandManual.Once(description).TrimEnd('.')}.";

    private static (string Text, string Hint) Of(OptionResult option, ParseError error)
    {
        var name = option.Option.Name;
        if (option.Tokens.Count < option.Option.Arity.MinimumNumberOfValues)
            return ($"{name} needs a value: {CommandManual.Term(option.Option)}", Described(option.Option.Description));
        if (Choices(option.Option, option.Tokens) is { } choice)
            return choice;
        var type = Nullable.GetUnderlyingType(option.Option.ValueType) ?? option.Option.ValueType;
        if (type.IsPrimitive && option.Tokens is [var token] && error.Message.StartsWith("Cannot parse", StringComparison.Ordinal))
            return ($"{name} '{token.Value}' is not a {(type == typeof(double) ? "" : "whole ")}number",
                Described(option.Option.Description));
        if (option.Tokens.Count > option.Option.Arity.MaximumNumberOfValues)
            return ($"{name} is given once, and was given {option.Tokens.Count} times", "");
        var message = Plain(error);
        return (message.Contains(name, StringComparison.Ordinal) ? message : $"{name}: {message}", "");
    }

    // One of several words was wanted.
    private static (string Text, string Hint)? Choices(Symbol symbol, IReadOnlyList<Token> tokens)
    {
        var known = Completer.Known(symbol).Select(c => c.Value).ToList();
        return known.Count > 0 && tokens.FirstOrDefault(t => !known.Contains(t.Value)) is { } wrong
            ? ($"{symbol.Name} '{wrong.Value}' is none of {string.Join(", ", known)}", Meant(wrong.Value, known)) : null;
    }

    private static string Plain(ParseError error) =>
        string.Join(' ', error.Message.Split((char[])['\n', '\t', ' '], StringSplitOptions.RemoveEmptyEntries)).TrimEnd('.');
}

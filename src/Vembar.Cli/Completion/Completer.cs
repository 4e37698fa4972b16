using System.CommandLine;
using System.CommandLine.Completions;
using System.CommandLine.Help;
using Vembar.Cli.Manual;
using Vembar.Common;

namespace Vembar.Cli.Completion;

/// <summary>Finds out what the word at the cursor may become: commands, values of operands and options, then options.</summary>
internal sealed class Completer(RootCommand root)
{
    private const int Most = 500;

    /// <summary>What the word at the cursor may become.</summary>
    public IReadOnlyList<Candidate> Of(ShellLine line)
    {
        var parse = root.Parse([.. line.Words.Skip(1)]);
        var command = parse.CommandResult.Command;
        var word = line.Word;
        if (line.Words.Count > 1 && Find(command, line.Words[^1]) is { } open && TakesValue(open))
            return Matching(Candidates.Of(new Question(command, open, word, parse)), word);
        if (word.StartsWith("--", StringComparison.Ordinal) && word.IndexOf('=', StringComparison.Ordinal) is > 0 and var equals
            && Find(command, word[..equals]) is { } named && TakesValue(named))
        {
            var value = Matching(Candidates.Of(new Question(command, named, word[(equals + 1)..], parse)), word[(equals + 1)..]);
            return [.. value.Select(c => c with { Value = $"{word[..(equals + 1)]}{c.Value}" })];
        }
        var found = new List<Candidate>();
        var operand = Next(parse);
        if (!word.StartsWith('-'))
        {
            if (!parse.CommandResult.Children.OfType<System.CommandLine.Parsing.ArgumentResult>().Any(a => a.Tokens.Count > 0))
                found.AddRange(command.Subcommands.Where(c => !c.Hidden)
                    .Select(c => new Candidate(c.Name, CommandManual.Summary(c.Description ?? ""))));
            if (operand is not null)
                found.AddRange(Candidates.Of(new Question(command, operand, word, parse)));
        }
        // Options come last, and only where they were begun or nothing else belongs.
        if (word.StartsWith('-') || (found.Count == 0 && operand is null))
            found.AddRange(Options(command, parse));
        return Matching(found, word);
    }

    private static IReadOnlyList<Candidate> Matching(IReadOnlyList<Candidate> found, string word) =>
        [.. found.Where(c => c.Value.StartsWith(word, StringComparison.OrdinalIgnoreCase)).Take(Most)];

    private Option? Find(Command command, string name) => command.Options.Concat(root.Options)
        .FirstOrDefault(o => o.Name == name || o.Aliases.Contains(name));

    private static bool TakesValue(Option option) => option is not (HelpOption or VersionOption)
        && (Nullable.GetUnderlyingType(option.ValueType) ?? option.ValueType) != typeof(bool);

    private static Argument? Next(ParseResult parse) => parse.CommandResult.Command.Arguments.FirstOrDefault(a => !a.Hidden
        && (parse.GetResult(a)?.Tokens.Count ?? 0) < a.Arity.MaximumNumberOfValues);

    private IEnumerable<Candidate> Options(Command command, ParseResult parse) => command.Options
        .Concat(command == root ? [] : root.Options)
        .Where(o => !o.Hidden && (parse.GetResult(o) is not { Implicit: false } || o.Arity.MaximumNumberOfValues > 1))
        .OrderBy(o => root.Options.Contains(o))
        .Select(o => new Candidate(o.Name, CommandManual.Summary(o.Description ?? "")));

    /// <summary>The words among which an operand or an option's value is chosen, as far as its definition names them.</summary>
    public static IEnumerable<Candidate> Known(Symbol symbol) =>
        symbol.GetCompletions(CompletionContext.Empty).Where(c => !c.Label.StartsWith('-')).Select(c => new Candidate(c.Label));
}

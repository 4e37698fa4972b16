using System.Collections;
using System.CommandLine;
using System.CommandLine.Completions;
using System.CommandLine.Help;
using System.Globalization;

namespace Vembar.Cli.Manual;

/// <summary>What there is to say of a command, taken from its definition: help and manual pages are made of it.</summary>
internal sealed class CommandManual
{
    private const string Operands = "Operands", Commands = "Commands", Plain = "Options";

    private readonly Command _command;

    /// <param name="command">The command.</param>
    /// <param name="root">The program.</param>
    public CommandManual(Command command, RootCommand root)
    {
        _command = command;
        var names = new List<string>();
        for (var at = command; at is not (null or RootCommand); at = at.Parents.OfType<Command>().FirstOrDefault())
            names.Insert(0, at.Name);
        Names = names;
        Sections = [.. SectionsOf(command)];
        Common = new ManualSection("On every command", [.. root.Options.Where(o => !o.Hidden).Select(Entry)]);
    }

    /// <summary>The words that the command is called by, behind the program's name.</summary>
    public IReadOnlyList<string> Names { get; }

    /// <summary>The program's name and the command's.</summary>
    public string Title => string.Join(' ', [Program, .. Names]);

    /// <summary>What it is for.</summary>
    public string Description => _command.Description ?? "";

    /// <summary>Whether it is the program itself.</summary>
    public bool IsProgram => Names.Count == 0;

    /// <summary>Operands, options and commands below it.</summary>
    public IReadOnlyList<ManualSection> Sections { get; }

    /// <summary>The options of every command.</summary>
    public ManualSection Common { get; }

    /// <summary>Command lines that show how it is used.</summary>
    public IReadOnlyList<string> Examples => _command is VembarCommand { Examples: var examples } ? examples : [];

    /// <summary>The program's name.</summary>
    public const string Program = "vembar";

    /// <summary>How the command is written: one line for what does something, one for what has commands below it.</summary>
    public IEnumerable<string> Synopsis
    {
        get
        {
            if (_command.Action is not null || _command.Subcommands.Count == 0)
            {
                var words = new List<string> { Title };
                words.AddRange(_command.Arguments.Where(a => !a.Hidden).Select(Operand));
                words.AddRange(_command.Options.Where(o => o.Required).Select(Term));
                if (_command.Options.Any(o => !o.Required && !o.Hidden && o is not HelpOption))
                    words.Add("[OPTIONS]");
                yield return string.Join(' ', words);
            }
            if (_command.Subcommands.Any(c => !c.Hidden))
                yield return $"{Title} COMMAND [OPERANDS] [OPTIONS]";
        }
    }

    /// <summary>All commands, each before those below it.</summary>
    public static IEnumerable<Command> All(Command command) =>
        command.Subcommands.Where(c => !c.Hidden).SelectMany(c => (Command[])[c, .. All(c)]).Prepend(command).Distinct();

    /// <summary>The short form of a description, for lists of commands: what stands before details.</summary>
    public static string Summary(string description)
    {
        var end = description.AsSpan().IndexOfAny(':', ';');
        return end < 0 ? description.TrimEnd('.') : description[..end];
    }

    private static IEnumerable<ManualSection> SectionsOf(Command command)
    {
        if (command.Arguments.Any(a => !a.Hidden))
            yield return new ManualSection(Operands, [.. command.Arguments.Where(a => !a.Hidden).Select(a => new ManualEntry(Operand(a),
                WithDefault(a.Description, a.HasDefaultValue ? a.GetDefaultValue() : null)))]);
        if (command is not RootCommand)
        {
            foreach (var group in command.Options.Where(o => !o.Hidden && o is not HelpOption)
                .GroupBy(o => (command as VembarCommand)?.SectionOf(o) ?? Plain))
                yield return new ManualSection(group.Key, [.. group.Select(Entry)]);
        }
        foreach (var group in command.Subcommands.Where(c => !c.Hidden).GroupBy(c => (c as VembarCommand)?.Group ?? Commands))
            yield return new ManualSection(group.Key, [.. group.Select(c => new ManualEntry(c.Name, Summary(c.Description ?? "")))]);
    }

    // What may be given several times has dots behind it.
    private static ManualEntry Entry(Option option) => new(
        string.Join(", ", option.Aliases.Where(a => a.StartsWith('-')).Order(StringComparer.Ordinal).Append(Term(option)))
            + (option.Arity.MaximumNumberOfValues > 1 ? " ..." : ""),
        (option.Required ? "(needed) " : "")
            + WithDefault(Once(option.Description), option.HasDefaultValue ? option.GetDefaultValue() : null));

    /// <summary>How an option is written.</summary>
    public static string Term(Option option) => option is HelpOption or VersionOption || Type(option.ValueType) == typeof(bool)
        ? option.Name : $"{option.Name} {option.HelpName ?? Values(option.GetCompletions(CompletionContext.Empty)) ?? "VALUE"}";

    private static Type Type(Type type) => Nullable.GetUnderlyingType(type) ?? type;

    private static string? Values(IEnumerable<CompletionItem> known) =>
        string.Join('|', known.Select(k => k.Label)) is { Length: > 0 } values ? values : null;

    /// <summary>How an operand is written.</summary>
    public static string Operand(Argument argument)
    {
        var name = argument.HelpName ?? argument.Name;
        var many = argument.Arity.MaximumNumberOfValues > 1 ? "..." : "";
        return argument.Arity.MinimumNumberOfValues == 0 || argument.HasDefaultValue ? $"[{name}{many}]" : name + many;
    }

    /// <summary>A description without that something may be given several times, which is shown otherwise.</summary>
    public static string Once(string? description) =>
        description?.Replace("; may be given several times", "", StringComparison.Ordinal) ?? "";

    private static string WithDefault(string? description, object? value) => (description ?? "") + (value switch
    {
        null or false or "" or 0 or 0.0 => "",
        string text => $" (default: {text})",
        IEnumerable => "",
        IFormattable number => $" (default: {number.ToString(null, CultureInfo.InvariantCulture)})",
        _ => "",
    });
}

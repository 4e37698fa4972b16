using System.CommandLine;

namespace Vembar.Cli;

/// <summary>A command with worked examples for its help.</summary>
internal sealed class VembarCommand(string name, string description, params string[] examples) : Command(name, description)
{
    private readonly Dictionary<Symbol, string> _sections = [];

    /// <summary>Command lines that show how it is used.</summary>
    public IReadOnlyList<string> Examples { get; } = examples;

    /// <summary>Under which heading it stands among the commands beside it; null for none.</summary>
    public string? Group { get; set; }

    /// <summary>Under which heading an option of it stands; null for none of its own.</summary>
    public string? SectionOf(Symbol option) => _sections.GetValueOrDefault(option);

    /// <summary>Where somebody is told how a command is written.</summary>
    public static string HelpOf(Command command)
    {
        var names = new Stack<string>();
        for (var at = command; at is not (null or RootCommand); at = at.Parents.OfType<Command>().FirstOrDefault())
            names.Push(at.Name);
        return $"See `vembar {string.Concat(names.Select(n => n + " "))}--help`.";
    }

    public VembarCommand With(params Symbol[] symbols)
    {
        foreach (var symbol in symbols)
        {
            if (symbol is Argument argument)
                Arguments.Add(argument);
            else if (symbol is Option option)
                Options.Add(option);
        }
        return this;
    }

    /// <summary>Adds options that stand under a heading in the help.</summary>
    public VembarCommand WithSection(string heading, params Symbol[] options)
    {
        foreach (var option in options)
            _sections[option] = heading;
        return With(options);
    }

    public VembarCommand Does(Func<ParseResult, Session, int> work) => Does((parse, session) => Task.FromResult(work(parse, session)));

    public VembarCommand Does(Func<ParseResult, Session, Task<int>> work)
    {
        SetAction((parse, _) => Session.RunAsync(parse, session => work(parse, session)));
        return this;
    }
}

using System.CommandLine;
using Vembar.Operations;

namespace Vembar.Cli.Commands;

/// <summary>Options by which a command says of its result what `retitle` would say.</summary>
internal sealed class TitleOptions
{
    public Option<string?> Version { get; } = new("--version") { Description = "The result's version", HelpName = "TEXT" };

    public Option<string?> Note { get; } = new("--note") { Description = "A remark on the result", HelpName = "TEXT" };

    public Option<string[]> Labels { get; } = new("--label")
    {
        Description = "Set a label of the result; an empty value takes it away; may be given several times",
        HelpName = "KEY=VALUE",
        DefaultValueFactory = _ => [],
    };

    public ImageTitle Of(ParseResult parse, Session session) => new()
    {
        Version = SharedOptions.VersionOf(parse.GetValue(Version), session),
        Note = parse.GetValue(Note),
        Labels = SharedOptions.Pairs(parse.GetRequiredValue(Labels), "--label", "KEY=VALUE"),
    };
}

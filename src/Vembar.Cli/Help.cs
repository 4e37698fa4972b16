using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;

namespace Vembar.Cli;

/// <summary>Adds the examples to the library's help.</summary>
internal static class Help
{
    public static void Install(RootCommand root)
    {
        var option = root.Options.OfType<HelpOption>().Single();
        option.Description = "Show help";
        foreach (var alias in (string[])["-?", "/?", "/h"])
            option.Aliases.Remove(alias);
        option.Action = new WithExamples((HelpAction)option.Action!);
        if (root.Options.OfType<VersionOption>().SingleOrDefault() is { } version)
            version.Description = "Show the version";
    }

    private sealed class WithExamples(HelpAction plain) : SynchronousCommandLineAction
    {
        public override int Invoke(ParseResult parseResult)
        {
            plain.MaxWidth = Console.IsOutputRedirected ? 120 : Math.Max(Console.WindowWidth, 60);
            var code = plain.Invoke(parseResult);
            if (parseResult.CommandResult.Command is VembarCommand { Examples.Count: > 0 } command)
            {
                Console.Out.WriteLine("Examples:");
                foreach (var example in command.Examples)
                    Console.Out.WriteLine($"  {example}");
                Console.Out.WriteLine();
            }
            return code;
        }
    }
}

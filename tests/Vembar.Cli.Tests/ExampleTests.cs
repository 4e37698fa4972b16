using System.Text.RegularExpressions;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Each example of each command's help is a command line that the program takes, run where the demo's world lies.</summary>
[Trait("Set", "Slow")]
public sealed partial class ExampleTests(World world)
{
    // What serves until it is ended, asks the whole network, or makes a world of its own.
    private static readonly string[] s_notRun =
        ["station serve", "station join", "vembar demo", "--watch", "--follow", "/dev/", "<(", "https://", "oci://", "starter make"];

    [GeneratedRegex("(?:[^\\s\"]|\"[^\"]*\")+")]
    private static partial Regex Words();

    // The help of the program and of each command.
    private static IEnumerable<string> Helps()
    {
        var waiting = new Queue<string[]>([[]]);
        while (waiting.TryDequeue(out var command))
        {
            var help = Vembar.Run([.. command, "--help"]).Output;
            yield return help;
            // Of the program itself the commands stand in groups before its options.
            var listed = command.Length == 0 ? help.Split("\nOn every command:")[0]
                : help.Contains("\nCommands:\n", StringComparison.Ordinal) ? help.Split("\nCommands:\n")[1].Split("\n\n")[0] : "";
            foreach (Match name in Regex.Matches(listed, @"^  (?!vembar)([a-z-]+) ", RegexOptions.Multiline))
                waiting.Enqueue([.. command, name.Groups[1].Value]);
        }
    }

    private static IEnumerable<string> Examples(string help) => !help.Contains("\nExamples:\n", StringComparison.Ordinal) ? []
        : help.Split("\nExamples:\n")[1].Split("\n\n")[0].Replace(" \\\n", " ", StringComparison.Ordinal)
            .Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Trim());

    [Fact]
    public void EachIsTaken()
    {
        using var folder = new TempFolder();
        world.CopyArchive(folder);
        var demo = folder.At("vembar-demo");
        Directory.CreateDirectory(demo);
        foreach (var name in (string[])["references", "disks", "spoiled", "drivers", "hardware", "house", "orders", "packages", "trust",
            "answers", "more-drivers"])
            File.CreateSymbolicLink(Path.Combine(demo, name), world.At(name));
        var run = 0;
        var wrong = new List<string>();
        foreach (var example in Helps().SelectMany(Examples).Distinct()
            .Where(e => !s_notRun.Any(n => e.Contains(n, StringComparison.Ordinal))))
        {
            // What follows is the shell's.
            var line = example.Split(" > ")[0].Split(" | ")[0];
            var words = Words().Matches(line).Select(m => m.Value.Replace("\"", "", StringComparison.Ordinal)).ToArray();
            Assert.Equal("vembar", words[0]);
            var process = Vembar.Start(words[1..], start =>
            {
                start.WorkingDirectory = folder.Path;
                start.RedirectStandardInput = true;
                start.Environment["HOME"] = folder.Path;
                // Nobody is at such an address.
                start.Environment["VEMBAR_STATION"] = "https://127.0.0.1:9";
            });
            process.StandardInput.Close();
            var ran = Vembar.Finish(process);
            run++;
            // Things that are not there are the example's; a command line that is wrong is not.
            if (ran.Code == 2 && !ran.Error.Contains("nobody is there to confirm", StringComparison.Ordinal))
                wrong.Add($"{example}: {ran.Error}");
        }
        Assert.Empty(wrong);
        Assert.InRange(run, 100, 1000);
    }
}

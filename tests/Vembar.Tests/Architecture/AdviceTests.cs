using System.Text.RegularExpressions;
using Xunit;

namespace Vembar.Tests.Architecture;

/// <summary>The layers say what would help by a word; the program has the text for each.</summary>
public partial class AdviceTests
{
    [GeneratedRegex(@"Advice\.Of\(\s*""(?<word>[a-z-]+)""(?<arguments>(,\s*\(""\w+"")?)")]
    private static partial Regex Use();

    [GeneratedRegex(@"^\s+\[""(?<word>[a-z-]+)""\] =", RegexOptions.Multiline)]
    private static partial Regex Text();

    private static IEnumerable<string> Code(string folder) =>
        Directory.EnumerateFiles(Path.Combine(Repository.Root, "src", folder), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal)).Select(File.ReadAllText);

    [Fact]
    public void EachAdviceHasItsWords()
    {
        string[] layers = ["Vembar.Common", "Vembar.Store", "Vembar.Images", "Vembar.Volumes", "Vembar.Windows", "Vembar.Operations"];
        var used = layers.SelectMany(Code).SelectMany(c => Use().Matches(c)).Select(m => m.Groups["word"].Value).Distinct().Order();
        var file = File.ReadAllText(Path.Combine(Repository.Root, "src/Vembar.Cli/AdviceText.cs"));
        // One is put together in code; some have a message as well.
        var known = Text().Matches(file).Select(m => m.Groups["word"].Value).Append("placeholders-left").Distinct().Order();
        Assert.Equal(known, used);
    }

    // Options and commands are the program's. What the schema of work orders and a draft of one say is the format's own text.
    [Fact]
    public void NoLayerNamesOptionsOrCommands()
    {
        string[] layers = ["Vembar.Common", "Vembar.Store", "Vembar.Images", "Vembar.Volumes", "Vembar.Windows", "Vembar.Operations"];
        var named = layers.SelectMany(layer => Directory.EnumerateFiles(Path.Combine(Repository.Root, "src", layer), "*.cs",
            SearchOption.AllDirectories))
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/Orders/Order", StringComparison.Ordinal))
            .SelectMany(f => File.ReadLines(f).Where(l => Named().IsMatch(l) && !l.TrimStart().StartsWith("//", StringComparison.Ordinal))
            .Select(l => $"{Path.GetFileName(f)}: {l.Trim()}"));
        Assert.Empty(named);
    }

    [GeneratedRegex("""
        "[^"]*([`']vembar [a-z]|(^|[ '(])--[a-z])
        """)]
    private static partial Regex Named();
}

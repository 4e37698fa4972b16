using System.Text.RegularExpressions;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What terminals of several widths get: no line is longer than they are, and no word is broken.</summary>
[Trait("Set", "Slow")]
public sealed partial class WidthTests(World world, MistakeFolder folder) : IClassFixture<MistakeFolder>
{
    [GeneratedRegex("\u001b\\[[0-9;?]*[A-Za-z]|\u001b[=>]")]
    private static partial Regex Codes();

    [GeneratedRegex(@"[^ \n]+")]
    private static partial Regex Words();

    private static readonly string[] s_onlyTerminals = ["pipe the output", "its images hold", " entries, "];

    // Whether a word is one of these, or stands in a path of them between slashes.
    private static bool IsWhole(string word, IReadOnlyCollection<string> known) => known.Any(k =>
        k.IndexOf(word, StringComparison.Ordinal) is >= 0 and var at && (at == 0 || k[at - 1] is '/' or '\\')
        && (at + word.Length == k.Length || word[^1] is '/' or '\\'));

    [Theory]
    [InlineData("list desks.vmb")]
    [InlineData("show desks.vmb#1")]
    [InlineData("survey disks/lending-desk.vhdx")]
    [InlineData("ready spoiled/not-generalized.qcow2")]
    [InlineData("history desks.vmb")]
    [InlineData("files desks.vmb#1 Windows")]
    [InlineData("drivers drivers")]
    [InlineData("drivers drivers --for hardware/oakmere-m4.yaml")]
    [InlineData("diff desks.vmb#1 desks.vmb#2")]
    [InlineData("verify desks.vmb")]
    [InlineData("report desks.vmb")]
    [InlineData("service desks.vmb#1 --driver drivers --trust trust --plan")]
    [InlineData("service desks.vmb#1 --driver house --plan")]
    [InlineData("service --help")]
    [InlineData("help")]
    [InlineData("help capture")]
    [InlineData("show desks.vmb#9")]
    public void NothingIsBrokenOrTooLong(string line)
    {
        Assert.SkipUnless(File.Exists("/usr/bin/script"), "needs a pseudo-terminal");
        folder.Fill(world);
        var piped = Vembar.Finish(Vembar.Start(line.Split(' '), start => start.WorkingDirectory = folder.Path));
        var known = Words().Matches(piped.Output + piped.Error).Select(w => w.Value).ToHashSet();
        foreach (var width in (int[])[60, 80, 120, 200])
        {
            var (_, output, _) = Tools.Try("script", ["-qec", $"stty cols {width} rows 50; '{Vembar.Path}' {line} 2>&1", "/dev/null"],
                folder.Path);
            // Progress is written over; it stands before the last return of its line.
            var lines = Codes().Replace(output.Replace("\r\n", "\n", StringComparison.Ordinal), "").Split('\n')
                .Select(l => l.Split('\r')[^1].TrimEnd()).ToList();
            Assert.All(lines, l => Assert.True(l.Length <= width || l.Trim().Split(' ').Any(w => w.Length > width - 30), $"{width}: {l}"));
            // What took long, says so.
            lines.RemoveAll(l => l.StartsWith("done  ", StringComparison.Ordinal));
            // Times differ from run to run; a terminal gets sums as well, and is told that a pipe gets more.
            var words = lines.Where(l => !s_onlyTerminals.Any(t => l.Contains(t, StringComparison.Ordinal)))
                .SelectMany(l => Words().Matches(l)).Select(m => m.Value).Where(w => !w.Contains('…') && w.Any(char.IsLetter)).ToList();
            Assert.All(words, word => Assert.True(known.Contains(word) || IsWhole(word, known), $"{width}: {word}"));
        }
    }
}

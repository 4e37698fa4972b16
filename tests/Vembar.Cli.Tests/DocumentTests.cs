using System.Text.RegularExpressions;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What the documents say can be done as it stands there: their links lead somewhere, their command lines are taken.</summary>
public sealed partial class DocumentTests(World world, ToldDemo demo)
{
    // What serves until it is ended, needs a place, a disk or a machine that is not here, or asks somebody.
    private static readonly string[] s_notRun =
    [
        "station", "vembar demo", "--watch", "--follow", "/dev/", "<(", "https://", "oci://", "starter ", "login", "logout",
        "sudo", "$EDITOR", "http://", "/mnt/",
    ];

    [GeneratedRegex(@"(?<!!)\[[^\]]*\]\(([^)]+)\)|!\[[^\]]*\]\(([^)]+)\)")]
    private static partial Regex Links();

    [GeneratedRegex(@"^```(?:sh|console)\n(.*?)^```", RegexOptions.Multiline | RegexOptions.Singleline)]
    private static partial Regex Blocks();

    private static IEnumerable<string> Pages() => Directory.EnumerateFiles(Path.Combine(Vembar.Repository, "docs"), "*.md",
        SearchOption.AllDirectories).Concat(Directory.EnumerateFiles(Vembar.Repository, "*.md"))
        .Concat(Directory.EnumerateFiles(Path.Combine(Vembar.Repository, "packaging"), "*.md")).Order(StringComparer.Ordinal);

    [Fact]
    public void EveryLinkLeadsSomewhere()
    {
        var dead = new List<string>();
        foreach (var page in Pages())
        {
            foreach (var link in Links().Matches(File.ReadAllText(page)).Select(m => m.Groups[1].Value + m.Groups[2].Value)
                .Where(l => !l.Contains("://", StringComparison.Ordinal)))
            {
                var file = link.Split('#')[0];
                if (file.Length > 0 && !Path.Exists(Path.Combine(Path.GetDirectoryName(page)!, file)))
                    dead.Add($"{page}: {link}");
            }
        }
        Assert.Empty(dead);
    }

    // The index is whole, and so are the pictures.
    [Fact]
    public void EveryPageAndPictureIsReached()
    {
        var index = File.ReadAllText(Path.Combine(Vembar.Repository, "docs/README.md"));
        Assert.All(Directory.EnumerateFiles(Path.Combine(Vembar.Repository, "docs"), "*.md").Select(Path.GetFileName)
            .Where(n => n is not ("README.md" or "performance-notes.md")), n => Assert.Contains($"({n})", index, StringComparison.Ordinal));
        var readme = File.ReadAllText(Path.Combine(Vembar.Repository, "README.md"));
        var pictures = Directory.EnumerateFiles(Path.Combine(Vembar.Repository, "docs/screenshots")).Select(Path.GetFileName).ToList();
        Assert.InRange(pictures.Count, 10, 19);
        Assert.All(pictures, n => Assert.Contains($"docs/screenshots/{n}", readme, StringComparison.Ordinal));
    }

    // A line of a page may begin with a prompt, and go on in the next line.
    private static IEnumerable<string> LinesOf(string page) => Blocks().Matches(File.ReadAllText(page)).SelectMany(m =>
        m.Groups[1].Value.Replace("\\\n", " ", StringComparison.Ordinal).Split('\n', StringSplitOptions.RemoveEmptyEntries))
        .Select(l => l.TrimStart('$', ' ')).Where(l => l.StartsWith("vembar ", StringComparison.Ordinal)
            || l.StartsWith("cd ", StringComparison.Ordinal));

    private static (int Code, string Error) Do(string line, TempFolder folder)
    {
        var (code, _, error) = Tools.Try("bash", ["-c",
            $"export PATH='{Path.GetDirectoryName(Vembar.Path)}':$PATH HOME='{folder.Path}' VEMBAR_PASSWORD=x; {line} </dev/null"],
            folder.Path);
        return (code, error);
    }

    private static IEnumerable<string> Run(string page) => LinesOf(Path.Combine(Vembar.Repository, page))
        .Where(l => !s_notRun.Any(n => l.Contains(n, StringComparison.Ordinal)));

    [Fact]
    [Trait("Set", "Slow")]
    public void TheDemoTellsItsStory()
    {
        Assert.True(demo.Told.Code == 0, demo.Told.Error + demo.Told.Output);
        Assert.DoesNotContain("   NO: ", demo.Told.Output, StringComparison.Ordinal);
        Assert.True(demo.Told.Output.Split("   yes: ").Length > 12, demo.Told.Output);
        Assert.Equal(3, Vembar.Run("demo", demo.Path).Code);
    }

    [Fact]
    [Trait("Set", "Slow")]
    public void TheDemoShowsWhatItsCommandsSay()
    {
        Assert.Contains("Ready to be captured", demo.Told.Output, StringComparison.Ordinal);
        Assert.Contains("desks.html shows it with charts.", demo.Told.Output, StringComparison.Ordinal);
    }

    // From the beginning to the end, each on what those before it made.
    [Theory]
    [Trait("Set", "Slow")]
    [InlineData("README.md", 8)]
    [InlineData("docs/tour.md", 50)]
    public void WhatIsShownInOrderWorksInOrder(string page, int least)
    {
        using var folder = new TempFolder();
        Assert.Equal(0, demo.Told.Code);
        File.CreateSymbolicLink(folder.At("vembar-demo"), demo.Path);
        Directory.CreateDirectory(folder.At("signers"));
        Tools.Run("openssl", ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout",
            folder.At("publisher-key.pem"), "-out", folder.At("publisher.pem"), "-subj", "/CN=Images", "-days", "30"]);
        File.Copy(folder.At("publisher.pem"), folder.At("signers/publisher.pem"));
        var lines = Run(page).ToList();
        Assert.InRange(lines.Count, least, 200);
        var failed = new List<string>();
        var at = ".";
        foreach (var line in lines)
        {
            if (line.StartsWith("cd ", StringComparison.Ordinal))
            {
                at = Path.Combine(at, line[3..]);
                continue;
            }
            var (code, error) = Do($"cd '{at}'; {line}", folder);
            // Some show what is not in order.
            if (code is not (0 or 1))
                failed.Add($"{code}: {line}\n{error}");
        }
        Assert.True(failed.Count == 0, string.Join("\n", failed));
    }

    // Single lines, on files that are not there: each is at least a command line.
    [Fact]
    [Trait("Set", "Slow")]
    public void EveryOtherLineIsTaken()
    {
        using var folder = new TempFolder();
        world.CopyArchive(folder);
        var wrong = new List<string>();
        var lines = Pages().Select(p => Path.GetRelativePath(Vembar.Repository, p)).Where(p => p is not ("README.md" or "docs/tour.md"))
            .SelectMany(Run).Where(l => l.StartsWith("vembar ", StringComparison.Ordinal)).Distinct().ToList();
        foreach (var line in lines)
        {
            var (code, error) = Do(line, folder);
            if (code == 2 && !error.Contains("nobody is there to confirm", StringComparison.Ordinal))
                wrong.Add($"{line}\n{error}");
        }
        Assert.True(wrong.Count == 0, string.Join("\n", wrong));
        Assert.InRange(lines.Count, 5, 500);
    }
}

using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Help, subjects and manual pages.</summary>
public sealed class HelpTests
{
    [Fact]
    public void CommandsStandInGroups()
    {
        var help = Vembar.Run("--help").Output;
        string[] groups = ["Look at a reference:", "Make images:", "Look into archives:", "Change images:", "Versions and places:",
            "Deploy:", "Look after archives:", "Learn:"];
        Assert.Equal(groups, help.Split('\n').Where(groups.Contains));
        Assert.All(help.Split('\n'), l => Assert.InRange(l.Length, 0, 100));
        var service = Vembar.Run("service", "--help").Output;
        Assert.All((string[])["Drivers:", "Packages and features:", "Answers and settings:", "Work orders:", "Where the result goes:"],
            heading => Assert.Contains($"\n{heading}\n", service, StringComparison.Ordinal));
        Assert.Contains("--driver DIR ...", service, StringComparison.Ordinal);
        Assert.Contains("(default: balanced)", service, StringComparison.Ordinal);
    }

    [Fact]
    public void ASubjectIsRead()
    {
        var orders = Vembar.Run("help", "orders").Output;
        Assert.StartsWith("Work orders\n\nA work order is a YAML file", orders, StringComparison.Ordinal);
        Assert.Contains("\n    title: Reading room, ${month}\n", orders, StringComparison.Ordinal);
        Assert.Contains("\n  driver-out: NAME\n      takes an added driver out", orders, StringComparison.Ordinal);
        Assert.DoesNotContain("](", orders, StringComparison.Ordinal);
        // Each that the overview names has its page.
        var named = Vembar.Run("--help").Output.Split("SUBJECT`:\n")[1].Split("\n\n")[0].Split([',', ' ', '\n'],
            StringSplitOptions.RemoveEmptyEntries);
        Assert.InRange(named.Length, 15, 40);
        Assert.All(named, subject => Assert.InRange(Vembar.Run("help", subject).Output.Length, 500, 100_000));
    }

    [Fact]
    public void ManualPagesAreWellFormed()
    {
        using var folder = new TempFolder();
        Assert.Equal(0, Vembar.Run("help", "--man-pages", folder.Path).Code);
        var pages = Directory.GetFiles(folder.Path, "*", SearchOption.AllDirectories);
        Assert.Contains(folder.At("man1/vembar-service.1"), pages);
        Assert.Contains(folder.At("man1/vembar-station-wave.1"), pages);
        Assert.Contains(folder.At("man7/vembar-orders.7"), pages);
        Assert.SkipUnless(File.Exists("/usr/bin/groff"), "groff is not installed");
        foreach (var page in pages)
        {
            var (code, text, warnings) = Tools.Try("groff", ["-k", "-man", "-Tutf8", "-ww", page]);
            Assert.Equal((0, ""), (code, warnings));
            Assert.InRange(text.Length, 500, 100_000);
        }
        // They may be written again, over themselves alone.
        Assert.Equal(0, Vembar.Run("help", "--man-pages", folder.Path).Code);
        folder.Write("man1/vembar-list.1", "something else");
        Assert.Equal(3, Vembar.Run("help", "--man-pages", folder.Path).Code);
    }
}

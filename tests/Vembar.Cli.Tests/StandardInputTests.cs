using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Where a list, an order or the like is read from a file, "-" reads it from standard input.</summary>
public sealed class StandardInputTests(World world)
{
    private static Ran Run(TempFolder folder, string input, params string[] arguments)
    {
        var process = Vembar.Start(arguments, start =>
        {
            start.WorkingDirectory = folder.Path;
            start.RedirectStandardInput = true;
        });
        try
        {
            process.StandardInput.Write(input);
            process.StandardInput.Close();
        }
        catch (IOException)
        {
            // It has seen enough.
        }
        return Vembar.Finish(process);
    }

    [Fact]
    public void OrdersPatternsPathsAndExpectationsAreReadFromThere()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var listed = Vembar.Run("files", archive + "#1", "Windows/INF", "--paths").Output;
        var taken = Run(folder, listed, "take", archive + "#1", "--paths-from", "-", "--to", "out");
        Assert.Equal((0, true), (taken.Code, File.Exists(folder.At("out/Windows/INF/setupapi.log")) || Directory.Exists(folder.At("out"))));
        Assert.Equal(3, Run(folder, "Windows/none of that name\n", "take", archive + "#1", "--paths-from", "-", "--to", "none").Code);
        Assert.Equal(2, Run(folder, "\n", "take", archive + "#1", "--paths-from", "-", "--to", "none").Code);

        // Paths in an order are relative to where one is.
        folder.Write("hours.txt", "Mondays");
        const string Order = "changes:\n  - put: hours.txt\n    to: Users/Public/hours.txt\n";
        Assert.Equal(0, Run(folder, Order, "order", "check", "-").Code);
        Assert.Equal(0, Run(folder, Order, "service", archive + "#1", "--order", "-", "--in-place").Code);
        Assert.Contains("standard input", Vembar.Run("show", archive + "#1", "--json").Output, StringComparison.Ordinal);
        Assert.Equal("Mondays", Vembar.Run("take", archive + "#1", "Users/Public/hours.txt", "--to", "-").Output);

        Assert.Equal(0, Run(folder, "expect:\n  - state: generalized\n", "check", archive + "#1", "-").Code);
        Assert.Equal(1, Run(folder, "expect:\n  - program: Nobody has it\n", "check", archive + "#1", "-").Code);
        Assert.Equal(3, Run(folder, "nonsense", "check", archive + "#1", "-").Code);

        Directory.CreateDirectory(folder.At("src/keep"));
        folder.Write("src/keep/a", "a");
        folder.Write("src/b.tmp", "b");
        Assert.Equal(0, Run(folder, "# what nobody needs\n*.tmp\n", "capture", "src", "src.vmb", "--name", "x",
            "--leave-out-file", "-").Code);
        Assert.Equal(["keep"], Vembar.Run("files", folder.At("src.vmb") + "#1", "--paths").Output.Split('\n',
            StringSplitOptions.RemoveEmptyEntries).Where(p => p.Length > 1));
        // A file of that name is still a file.
        folder.Write("-", "expect:\n  - state: generalized\n");
        Assert.Equal(0, Run(folder, "nonsense", "check", archive + "#1", "./-").Code);
    }

    [Fact]
    public void TooMuchIsRefused()
    {
        using var folder = new TempFolder();
        var ran = Run(folder, new string('x', 65 << 20), "check", world.Archive + "#1", "-");
        Assert.Equal((3, true), (ran.Code, ran.Error.Contains("longer than 64 MiB", StringComparison.Ordinal)));
    }
}

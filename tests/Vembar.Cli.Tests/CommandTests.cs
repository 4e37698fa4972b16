using System.Text.Json;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What holds for all commands: help, errors, the log, colours; and surveys.</summary>
public sealed class CommandTests(World world)
{
    private static readonly string[] s_commands = ["survey", "ready", "capture", "list", "show", "files", "take", "diff", "verify", "copy",
        "retitle", "mark", "drop", "history", "rewind", "compact", "service", "order", "workspace", "drivers", "package", "features",
        "answers", "check", "sign", "init", "sites", "sync", "login", "logout", "cache", "deploy", "demo", "completion",
        "build", "builds", "recipe"];

    [Fact]
    public void ErrorsNameThisProgramsOptions()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        var disk = folder.Write("disk.img", new byte[1 << 20]);
        string Error(params string[] arguments) => Vembar.Run(arguments).Error;
        Assert.Contains($"the target '{disk}' is there already, and --size makes a new disk image\nName a file that is not there",
            Error("deploy", archive + "#1", disk, "--size", "2 GiB").Replace("  ", "", StringComparison.Ordinal), StringComparison.Ordinal);
        Assert.Contains("--volume deploys into a volume as it is; --size, --layout and --erase make the disk anew",
            Error("deploy", archive + "#1", disk, "--volume", "1", "--erase"), StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("workspace", "open", archive + "#1", folder.At("work"), "--only", "Windows/Web").Code);
        Assert.Equal(0, Vembar.Run("capture", world.At("references/bookmobile"), archive, "--name", "Other").Code);
        Assert.Equal(0, Vembar.Run("drop", archive + "#1", "--confirm").Code);
        var status = Vembar.Run("workspace", "status", folder.At("work"), "--json");
        Assert.EndsWith("was dropped since; save it with --as", status.Json.GetProperty("warnings")[0].GetString(),
            StringComparison.Ordinal);
    }

    [Fact]
    public void EveryCommandHasHelpWithExamples()
    {
        var overview = Vembar.Run("--help");
        Assert.DoesNotContain("/?", overview.Output, StringComparison.Ordinal);
        Assert.Equal(overview.Output, Vembar.Run("help").Output);
        Assert.Equal(Vembar.Run("capture", "--help").Output, Vembar.Run("help", "capture").Output);
        Assert.Equal(Vembar.Run("workspace", "close", "-h").Output, Vembar.Run("help", "workspace", "close").Output);
        Assert.Equal((2, true),
            (Vembar.Run("help", "captur").Code,
            Vembar.Run("help", "captur").Error.Contains("Did you mean 'capture'?", StringComparison.Ordinal)));
        Assert.Equal((2, 2), (Vembar.Run("history", "x", "/?").Code, Vembar.Run("/h").Code));
        // A command below another is named whole.
        Assert.Contains("See `vembar starter use --help`.", Vembar.Run("starter", "use", "x", "--channel", "fast").Error,
            StringComparison.Ordinal);
        Assert.Equal(0, overview.Code);
        foreach (var command in s_commands)
        {
            Assert.Contains($"\n  {command} ", overview.Output, StringComparison.Ordinal);
            var help = Vembar.Run(command, "--help");
            Assert.Equal(0, help.Code);
            Assert.Contains("Examples:\n  ", help.Output, StringComparison.Ordinal);
            Assert.Contains($"vembar {command}", help.Output, StringComparison.Ordinal);
        }
        Assert.Matches(@"^vembar \d+\.\d+\.\d+( \([0-9a-f]{12}\))?\nlibzstd \d.*, libntfs-3g \d.*\n$", Vembar.Run("--version").Output);
        Assert.Matches(@"^\d+\.", Vembar.Run("--version", "--json").Json.GetProperty("libraries").GetProperty("libarchive").GetString());
    }

    [Fact]
    public void EveryOptionOfTheReadmesTourExists()
    {
        var readme = File.ReadAllText(Path.Combine(Vembar.Repository, "README.md"));
        foreach (var line in readme.Split('\n')
            .Where(l => l.StartsWith("vembar ", StringComparison.Ordinal) || l.StartsWith("$ vembar ", StringComparison.Ordinal)))
        {
            var words = line.TrimStart('$', ' ').Split(' ');
            string[] command = words[1] is "workspace" or "order" or "package" or "answers" or "starter" or "station" or "userdata"
                or "recipe" ? [words[1], words[2]] : [words[1]];
            var help = Vembar.Run([.. command, "--help"]).Output;
            Assert.All(words.Where(w => w.StartsWith("--", StringComparison.Ordinal)),
                option => Assert.Contains(option, help, StringComparison.Ordinal));
        }
    }

    [Fact]
    public void SurveySaysWhatThereIs()
    {
        var json = Vembar.Run("survey", world.At("references/bookmobile"), "--json").Json;
        Assert.Equal(["source", "disk", "volumes", "warnings"], json.EnumerateObject().Select(p => p.Name));
        Assert.Equal("generalized", json.GetProperty("volumes")[0].GetProperty("windows").GetProperty("state").GetString());
        Assert.Contains("A capture would take", Vembar.Run("survey", world.At("references/bookmobile")).Output, StringComparison.Ordinal);
        Assert.Contains("No Windows was found", Vembar.Run("survey", world.At("drivers")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public void CompletionKnowsCommandsAndOptions()
    {
        Assert.Contains("capture", Vembar.Run("[suggest:9]", "vembar ca").Output, StringComparison.Ordinal);
        Assert.Contains("--effort", Vembar.Run("[suggest:18]", "vembar capture --e").Output, StringComparison.Ordinal);
        foreach (var shell in (string[])["bash", "zsh", "fish"])
            Assert.Contains("vembar", Vembar.Run("completion", shell).Output, StringComparison.Ordinal);
        Tools.Run("bash", ["-n", "-c", Vembar.Run("completion", "bash").Output]);
    }

    [Fact]
    public void TheLogTellsWhatWasDone()
    {
        using var folder = new TempFolder();
        var archive = world.CopyArchive(folder);
        Vembar.Run("service", archive + "#1", "--remove", "Windows/Panther/setupact.log", "--in-place", "--log", folder.At("run.log"));
        var lines = File.ReadAllLines(folder.At("run.log")).Select(l => JsonDocument.Parse(l).RootElement).ToList();
        Assert.Contains(lines,
            l => l.TryGetProperty("Message", out var m) && m.GetString()!.Contains("setupact.log: Done", StringComparison.Ordinal));
        Assert.Equal(0, lines[^1].GetProperty("ExitCode").GetInt32());
        Assert.Equal(3, Vembar.Run("list", archive, "--log", folder.At("no/such/folder/log")).Code);
    }

    [Fact]
    public void ColourIsForTerminalsAndCanBeTurnedOff()
    {
        // script(1) gives the program a terminal.
        string OnTerminal(string before, string more) =>
            Tools.Run("script", ["-qec", $"env -u NO_COLOR {before} {Vembar.Path} list {world.Archive} {more}", "/dev/null"]);
        const string Style = "\u001b\\[[0-9;]+m";
        Assert.Matches(Style, OnTerminal("TERM=xterm-256color", ""));
        Assert.DoesNotMatch(Style, OnTerminal("TERM=xterm-256color NO_COLOR=1", ""));
        Assert.DoesNotMatch(Style, OnTerminal("TERM=xterm-256color", "--plain"));
    }
}

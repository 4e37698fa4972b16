using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>Recipes and builds as a person has them done.</summary>
public sealed class BuildCommandTests(World world)
{
    private static void Recipe(TempFolder folder, World world, string expected)
    {
        folder.Write("desk.yaml", $$"""
            title: Desk, monthly
            variables: {branch: Staithe}
            from: {{world.At("references/lending-desk")}}
            capture: {archive: desks.vmb, name: Desk, note: "${branch}, build ${build}"}
            expect: expected.yaml
            mark: {channel: pilot}

            """);
        folder.Write("expected.yaml", $"expect:\n  - language: {expected}\n");
    }

    [Fact]
    public void ARecipeIsBegunAndChecked()
    {
        using var folder = new TempFolder();
        Assert.Equal(0, Vembar.Run("recipe", "init", world.At("references/lending-desk"), "--name", "Desk", "--archive",
            folder.At("desks.vmb"), "--out", folder.At("desk.yaml")).Code);
        var read = Vembar.Run("recipe", "check", folder.At("desk.yaml"), "--json").Json;
        Assert.Equal((true, "Desk", folder.At("desks.vmb")), (read.GetProperty("ok").GetBoolean(), read.GetProperty("name").GetString(),
            read.GetProperty("archive").GetString()));
        Recipe(folder, world, "en-GB");
        File.Delete(folder.At("expected.yaml"));
        Assert.Equal(1, Vembar.Run("recipe", "check", folder.At("desk.yaml")).Code);
        File.AppendAllText(folder.At("desk.yaml"), "kepp: 3\n");
        var wrong = Vembar.Run("recipe", "check", folder.At("desk.yaml"));
        Assert.Equal(3, wrong.Code);
        Assert.Contains("'kepp'", wrong.Error, StringComparison.Ordinal);
        Assert.Equal(2, Vembar.Run("recipe", "init", folder.Path, "--name", "x").Code);
        Assert.Contains("\"title\": \"Vembar recipe\"", Vembar.Run("recipe", "schema").Output, StringComparison.Ordinal);
    }

    [Fact]
    public void ABuildIsPlannedFailsAndIsGoneOnWith()
    {
        using var folder = new TempFolder();
        Recipe(folder, world, "cy-GB");
        var builds = folder.At("builds");
        Ran Build(params string[] more) => Vembar.Run(["build", folder.At("desk.yaml"), "--builds", builds, .. more]);
        Assert.Contains("This was a plan", Build("--plan").Output, StringComparison.Ordinal);
        Assert.False(Directory.Exists(builds));
        var failed = Build();
        Assert.Equal(1, failed.Code);
        Assert.Contains("Failed at expect: it is not as 'expected.yaml' expects", failed.Output, StringComparison.Ordinal);
        Assert.False(File.Exists(folder.At("desks.vmb")));
        var run = Vembar.Run("builds", "--builds", builds, "--json").Json[0].GetProperty("run").GetString()!;
        Assert.Contains($"--resume {run}", failed.Output, StringComparison.Ordinal);
        folder.Write("expected.yaml", "expect:\n  - language: en-GB\n");
        var done = Build("--resume", run, "--json").Json.GetProperty("run");
        Assert.Equal(("done", 1), (done.GetProperty("outcome").GetString(), done.GetProperty("image").GetInt32()));
        Assert.StartsWith("Staithe, build 2", Vembar.Run("show", $"{folder.At("desks.vmb")}#Desk@pilot", "--json").Json.GetProperty("image")
            .GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Contains("Nothing changed: image 1", Build().Output, StringComparison.Ordinal);
        Assert.Contains("Nothing changed: image 1", Build("--plan").Output, StringComparison.Ordinal);
        var shown = Vembar.Run("builds", "show", run, "--builds", builds);
        Assert.Contains("1 as expected", shown.Output, StringComparison.Ordinal);
        Assert.Contains("<h2>Steps</h2>", File.ReadAllText($"{builds}/desk/{run}/page.html"), StringComparison.Ordinal);
        Assert.Equal(0, Vembar.Run("builds", "clean", "--all", "--builds", builds).Code);
        Assert.Contains("No runs", Vembar.Run("builds", "--builds", builds).Output, StringComparison.Ordinal);
        Assert.Equal(3, Vembar.Run("builds", "show", run, "--builds", builds).Code);
    }

    // A machine with nothing to start stands still until its time is over; a program in its place may fail, and says why.
    [Fact]
    public void APreparationThatComesToNothingIsEnded()
    {
        Assert.SkipUnless(File.Exists("/usr/bin/qemu-system-x86_64"), "QEMU is not installed");
        using var folder = new TempFolder();
        using (var disk = File.Create(folder.At("disk.raw")))
            disk.SetLength(64 << 20);
        Ran Build(string prepare)
        {
            folder.Write("disk.yaml", $"from: disk.raw\nprepare: {{{prepare}}}\ncapture: {{archive: a.vmb, name: Disk}}\n");
            return Vembar.Run("build", folder.At("disk.yaml"), "--builds", folder.At("builds"));
        }
        var late = Build("emulate: yes, firmware: bios, memory: 128 MiB, limit: 4 s");
        Assert.Equal(5, late.Code);
        Assert.Contains("the copy did not switch itself off within 4 s", late.Output, StringComparison.Ordinal);
        Assert.Single(Directory.EnumerateFiles(folder.At("builds"), "screen-last.png", SearchOption.AllDirectories));
        var failed = Build("run: [sh, -c, 'echo no driver for {disk}; exit 3']");
        Assert.Equal(5, failed.Code);
        Assert.Contains("'sh' ended with 3: no driver for ", failed.Output, StringComparison.Ordinal);
        Assert.Contains("was changed while a copy", Build("run: [sh, -c, 'touch -d tomorrow disk.raw; true {disk}']").Output,
            StringComparison.Ordinal);
        Assert.False(File.Exists(folder.At("a.vmb")));
    }

    // No room where runs are kept, then where the archive is: nothing is half there, and it goes on once there is some.
    [Fact]
    public void ADiskThatIsFullStopsABuildWhichGoesOnWhenThereIsRoom()
    {
        Assert.SkipUnless(Native.Posix.IsRoot, "needs root to mount a small file system");
        using var folder = new TempFolder();
        Directory.CreateDirectory(folder.At("archives"));
        foreach (var full in (string[])["builds", "archives"])
        {
            var small = folder.At(full);
            Directory.CreateDirectory(small);
            var (code, _, error) = Tools.Try("mount", ["-t", "tmpfs", "-o", "size=8M", "tmpfs", small]);
            Assert.SkipUnless(code == 0, $"cannot mount here: {error}");
            try
            {
                folder.Write("full.yaml", $$"""
                    from: {{world.At("references/lending-desk")}}
                    capture: {archive: archives/{{full}}.vmb, name: Desk}

                    """);
                Ran Build(params string[] more) => Vembar.Run(["build", folder.At("full.yaml"), "--builds", folder.At("builds"), .. more]);
                var failed = Build("--json");
                Assert.Equal(5, failed.Code);
                var run = failed.Json.GetProperty("run");
                Assert.Equal("failed", run.GetProperty("outcome").GetString());
                Assert.Contains("no room left", run.GetProperty("problem").GetString(), StringComparison.Ordinal);
                Assert.False(File.Exists(folder.At($"archives/{full}.vmb")));
                Assert.Equal(0, Tools.Try("mount", ["-o", "remount,size=200M", small]).Code);
                var gone = Build("--resume", run.GetProperty("run").GetString()!);
                Assert.True(gone.Code == 0, gone.Error + gone.Output);
                Assert.Equal(0, Vembar.Run("verify", folder.At($"archives/{full}.vmb")).Code);
            }
            finally
            {
                _ = Tools.Try("umount", [small]);
            }
        }
    }

    // Ended by force while it works, again and again: the archive is whole at each moment, and the run can be gone on with.
    [Fact]
    [Trait("Set", "Slow")]
    public void ABuildThatIsKilledIsGoneOnWith()
    {
        using var folder = new TempFolder();
        Recipe(folder, world, "en-GB");
        var builds = folder.At("builds");
        var random = new Random(3);
        for (var turn = 0; turn < 6; turn++)
        {
            using var process = Vembar.Start(["build", folder.At("desk.yaml"), "--builds", builds, "--set", $"branch=Branch {turn}"]);
            process.WaitForExit(random.Next(100, 1500));
            if (!process.HasExited)
                process.Kill();
            process.WaitForExit();
            if (Directory.Exists(builds) && Vembar.Run("builds", "--builds", builds, "--json").Json is { } runs
                && runs.GetArrayLength() > 0 && runs[0].GetProperty("outcome").GetString() == "running")
            {
                var gone = Vembar.Run("build", folder.At("desk.yaml"), "--builds", builds, "--set", $"branch=Branch {turn}", "--resume",
                    runs[0].GetProperty("run").GetString()!);
                Assert.True(gone.Code == 0, gone.Error + gone.Output);
            }
            if (File.Exists(folder.At("desks.vmb")))
                Assert.Equal(0, Vembar.Run("verify", folder.At("desks.vmb")).Code);
        }
    }
}

using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests;

/// <summary>What is told of long work while it goes on.</summary>
public sealed class ProgressTests
{
    // A server that takes its time in the middle of the file makes reading as long as it has to be.
    [Fact]
    public void ALongStepLeavesALineOnATerminalAndNowhereElse()
    {
        Assert.SkipUnless(File.Exists("/usr/bin/script"), "needs a pseudo-terminal");
        using var folder = new TempFolder();
        var noise = new byte[40 << 20];
        new Random(1).NextBytes(noise);
        folder.Write("src/noise", noise);
        Do.Capture(folder.At("src"), folder.At("slow.vmb"), "slow");
        var bytes = File.ReadAllBytes(folder.At("slow.vmb"));
        using var server = new TestServer(request =>
        {
            if (request.Range is { From: > 20 << 20 and < 36 << 20 })
                Thread.Sleep(TimeSpan.FromSeconds(2.5));
            return TestServer.File(request, bytes);
        });
        var line = $"'{Vembar.Path}' verify {server.Address("/slow.vmb")}";
        string[] Said(string more) => [.. Tools.Try("script", ["-qec", $"stty cols 70 rows 50; {line} {more}", "/dev/null"], folder.Path)
            .Output.Replace("\r\n", "\n", StringComparison.Ordinal).Split('\n').Select(l => l.Split('\r')[^1])];

        var steps = Array.FindAll(Said("--plain"), l => l.StartsWith("done  ", StringComparison.Ordinal));
        Assert.Contains(steps, s => s.StartsWith("done  reading  40.", StringComparison.Ordinal) && s.Contains(" MiB  ",
            StringComparison.Ordinal));
        Assert.All(steps, s => Assert.InRange(s.Length, 1, 80));
        Assert.DoesNotContain(Said("-q"), l => l.Contains("done", StringComparison.Ordinal));
        var piped = Vembar.Run("verify", server.Address("/slow.vmb"));
        Assert.Equal(0, piped.Code);
        Assert.DoesNotContain("done  ", piped.Output + piped.Error, StringComparison.Ordinal);
    }
}

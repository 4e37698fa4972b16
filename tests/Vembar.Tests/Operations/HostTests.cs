using System.Runtime;
using Vembar.Demo;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

/// <summary>The work of commands in a program that does several things at once.</summary>
public class HostTests(DemoFixture demo)
{
    private sealed class FixedClock(DateTimeOffset now) : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => now;
    }

    [Fact]
    public async Task TwoCapturesADeploymentAndAVerificationRunAtOnce()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var source = demo.Reference("lending-desk");
        var (before, mode) = (Do.Listing(source), GCSettings.LatencyMode);
        await Task.WhenAll(
            Task.Run(() => Do.Capture(source, folder.At("one.vmb"), "one")),
            Task.Run(() => Do.Capture(source, folder.At("two.vmb"), "two")),
            Task.Run(() => Do.Deploy($"{archive}#1", folder.At("deployed"))),
            Task.Run(() => Assert.True(Do.Verify(archive).Ok)));
        Assert.Equal(mode, GCSettings.LatencyMode);
        // Each did what it does alone.
        Assert.Equal(Root(folder.At("one.vmb")), Root(folder.At("two.vmb")));
        Assert.True(Do.Verify(folder.At("one.vmb")).Ok && Do.Verify(folder.At("two.vmb")).Ok);
        Assert.Equal(before, Do.Listing(source));
        Assert.Equal(Do.WithTree(archive, 1, t => t.Walk(t.Root, Images.Paths.WindowsPath.Root).Count()),
            Directory.EnumerateFileSystemEntries(folder.At("deployed"), "*", SearchOption.AllDirectories).Count());
    }

    private static string Root(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return reader.Find(null).Root.ToString();
    }

    [Fact]
    public void TimesThatAreRecordedAreTheHosts()
    {
        using var folder = new TempFolder();
        var now = new DateTimeOffset(2031, 5, 6, 7, 8, 9, TimeSpan.Zero);
        var host = new OperationHost { Clock = new FixedClock(now) };
        folder.Write("source/a.txt", "a");
        var captured = Do.Capture(folder.At("source"), folder.At("a.vmb"), with: r => r with { Host = host });
        Assert.Equal(now.UtcDateTime, captured.Image.Created);
        Assert.Equal(now.UtcDateTime, captured.Image.History.Single().Time);
    }
}

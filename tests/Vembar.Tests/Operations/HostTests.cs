using System.Runtime;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Copy;
using Vembar.Operations.Deploy;
using Vembar.Operations.Service;
using Vembar.Operations.Verify;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.Registry;
using Xunit;

namespace Vembar.Tests;

/// <summary>The work of commands in a program that does several things at once.</summary>
public class HostTests(DemoFixture demo)
{
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
        Assert.Equal(Do.WithTree(archive, 1, t => t.Walk(t.Root, WindowsPath.Root).Count()),
            Directory.EnumerateFileSystemEntries(folder.At("deployed"), "*", SearchOption.AllDirectories).Count());
    }

    private static string Root(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return reader.Find(null).Root.ToString();
    }

    [Fact]
    public async Task TimesThatAreRecordedAreTheHosts()
    {
        using var folder = new TempFolder();
        var now = new DateTimeOffset(2031, 5, 6, 7, 8, 9, TimeSpan.Zero);
        var host = new OperationHost { Clock = new FixedClock(now) };
        folder.Write("source/a.txt", "a");
        ImageReference image = new(folder.At("a.vmb"), "1");
        var captured = await new CaptureHandler(host).HandleAsync(
            new CaptureRequest { Source = folder.At("source"), Archive = image.Archive, Name = "one" }, NoProgress.Instance, default);
        Assert.Equal(now.UtcDateTime, captured.Image.Created);
        Assert.Equal(now.UtcDateTime, captured.Image.History.Single().Time);
        await new ServiceHandler(host).HandleAsync(new ServiceRequest
        {
            Image = image,
            Changes = [new PutChange(folder.Write("b.txt", "b"), "new/b.txt")],
            InPlace = true,
        }, NoProgress.Instance, default);
        await new CopyHandler(host).HandleAsync(new CopyRequest(image, folder.At("b.vmb"), null, null, default), NoProgress.Instance,
            default);
        foreach (var archive in (string[])["a.vmb", "b.vmb"])
        {
            Assert.All(Do.History(folder.At(archive)), state => Assert.Equal(now.UtcDateTime, state.Time));
            Assert.All(Do.Record(new ImageReference(folder.At(archive), "1")).History, e => Assert.Equal(now.UtcDateTime, e.Time));
            Do.WithTree(folder.At(archive), 1, tree =>
            {
                Assert.Equal(now.UtcDateTime, tree.Find(WindowsPath.Parse("new"))!.Modified!.Value.ToDateTime());
                return 0;
            });
        }
    }

    [Fact]
    public async Task KeysThatServicingChangesHaveTheHostsTime()
    {
        using var folder = new TempFolder();
        ImageReference image = new(demo.CopyArchive(folder), "1");
        var host = new OperationHost { Clock = new FixedClock(new DateTimeOffset(2031, 5, 6, 7, 8, 9, TimeSpan.Zero)) };
        var reg = folder.Write("time.reg",
            "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tarn Valley\\Clock]\r\n\"a\"=\"b\"\r\n");
        await new ServiceHandler(host).HandleAsync(
            new ServiceRequest { Image = image, Changes = [new RegistryChange(reg)], InPlace = true }, NoProgress.Instance, default);
        Do.Take(image, ["Windows/System32/config/SOFTWARE"], folder.At("taken"));
        Assert.Contains("/Tarn Valley/Clock,KEY,,2031-05-06 07:08:09",
            Tools.Run("reglookup", ["-t", "KEY", folder.At("taken/SOFTWARE")]), StringComparison.Ordinal);
    }

    [Fact]
    public async Task OneWorkerDoesWhatManyDo()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        foreach (var workers in (int[])[1, 5])
        {
            var host = new OperationHost { Workers = workers };
            await new CaptureHandler(host).HandleAsync(new CaptureRequest
            {
                Source = demo.Reference("lending-desk"),
                Archive = folder.At($"{workers}.vmb"),
                Name = "one",
            }, NoProgress.Instance, default);
            Assert.True((await new VerifyHandler(host).HandleAsync(new VerifyRequest(archive), NoProgress.Instance, default)).Ok);
            await new DeployHandler(host).HandleAsync(new DeployRequest
            {
                Image = ImageReference.Parse($"{archive}#1"),
                Target = folder.At($"target-{workers}"),
                Verify = true,
            }, NoProgress.Instance, default);
        }
        Assert.Equal(Root(folder.At("1.vmb")), Root(folder.At("5.vmb")));
        Assert.Equal(Do.Listing(folder.At("target-1")), Do.Listing(folder.At("target-5")));
    }
}

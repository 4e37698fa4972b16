using Vembar.Common;
using Vembar.Native;
using Vembar.Operations;
using Vembar.Operations.Deploy;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

public class ErrorTests(DemoFixture demo)
{
    [Theory]
    [InlineData(Errno.NoSpace, ErrorKind.Environment, "no-room")]
    [InlineData(Errno.Quota, ErrorKind.Environment, "no-room")]
    [InlineData(Errno.AccessDenied, ErrorKind.Environment, "no-permission")]
    [InlineData(Errno.NotPermitted, ErrorKind.Environment, "no-permission")]
    [InlineData(Errno.ReadOnly, ErrorKind.Environment, "read-only")]
    [InlineData(Errno.NotFound, ErrorKind.Input, "not-found")]
    [InlineData(5, ErrorKind.Environment, "io-error")]
    public void WhatTheSystemSaysIsSaidInOurWords(int errno, ErrorKind kind, string code)
    {
        var error = VembarException.From(new NativeException("write", "x", errno), "write", "/some/where")!;
        Assert.Equal((kind, code), (error.Kind, error.Code));
        Assert.Contains("/some/where", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void ABugStaysABug()
    {
        Assert.Null(VembarException.From(new InvalidOperationException("oops"), "write", "x"));
        Assert.Null(VembarException.From(new FormatException("not ours"), "write", "x"));
        Assert.Equal("library-missing", VembarException.From(new DllNotFoundException("libhivex.so.0"), "open", "x")!.Code);
        var own = VembarException.Input("a", "b");
        Assert.Same(own, VembarException.From(own, "open", "x"));
    }

    [Fact]
    public void SeveralProblemsAreOneErrorAndOneStaysItself()
    {
        var input = VembarException.Input("one", "first is wrong", "mend it");
        var surroundings = VembarException.Environment("two", "second is in the way");
        Assert.Same(input, VembarException.Aggregate([input]));
        var both = VembarException.Aggregate([input, surroundings]);
        Assert.Equal((ErrorKind.Environment, "two"), (both.Kind, both.Code));
        Assert.Equal(["first is wrong (mend it)", "second is in the way"], both.Details);
    }

    [Fact]
    public void ReadingBackFindsWhatWasTamperedWith()
    {
        using var folder = new TempFolder();
        for (var i = 0; i < 6; i++)
            folder.Write($"src/f{i}", $"content {i}");
        File.CreateSymbolicLink(folder.At("src/link"), "f1");
        Do.Capture(folder.At("src"), folder.At("a.vmb"));
        // Between writing and reading back somebody else is at work.
        var tamper = new Tamper(() =>
        {
            File.Delete(folder.At("out/f0"));
            File.WriteAllText(folder.At("out/f1"), "longer than before");
            var time = File.GetLastWriteTimeUtc(folder.At("out/f2"));
            File.WriteAllText(folder.At("out/f2"), "CONTENT 2");
            Tools.Run("touch", ["-r", folder.At("src/f2"), folder.At("out/f2")]);
            File.SetLastWriteTimeUtc(folder.At("out/f3"), time.AddDays(1));
        });
        Directory.CreateDirectory(folder.At("out"));
        var result = Do.Deploy(new DeployRequest
        {
            Image = new ImageReference(folder.At("a.vmb"), null),
            Target = folder.At("out"),
            Verify = true,
        }, tamper, CancellationToken.None);
        Assert.True(tamper.Done);
        Assert.Contains("f0: is not there", result.Differences);
        Assert.Contains(result.Differences, d => d.StartsWith("f1: has 18 bytes", StringComparison.Ordinal));
        Assert.Contains("f2: has other content", result.Differences);
        Assert.Contains("f3: has another time", result.Differences);
        Assert.DoesNotContain(result.Differences,
            d => d.StartsWith("f5", StringComparison.Ordinal) || d.StartsWith("link", StringComparison.Ordinal));
    }

    // Works once, when the last file is written; reading back has not begun then.
    private sealed class Tamper(Action work) : IProgress<OperationProgress>
    {
        private readonly Lock _gate = new();

        public bool Done { get; private set; }

        public void Report(OperationProgress value)
        {
            lock (_gate)
            {
                if (Done || value.Phase != "writing files" || value.Done != value.Total)
                    return;
                Done = true;
                work();
            }
        }
    }

    [Fact]
    public void FilesAndFoldersInEachOthersWayAreToldAndNothingIsWritten()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var before = File.ReadAllBytes(archive);
        var file = folder.Write("new.txt", "new");
        var result = Do.Service(archive, null, new PutChange(file, "Windows/System32/ntoskrnl.exe/inside"), new PutChange(file, "con.txt"),
            new RemoveChange("/"));
        Assert.All(result.Changes, c => Assert.Equal(ChangeStatus.Refused, c.Status));
        Assert.Contains("is a file, a folder was needed", result.Changes[0].Why, StringComparison.Ordinal);
        Assert.Contains("not a name that Windows can open", result.Changes[1].Why, StringComparison.Ordinal);
        Assert.Equal(before, File.ReadAllBytes(archive));
        Assert.Equal("bad-path", Assert.Throws<VembarException>(() => Do.Service(archive, null, new RemoveChange("../x"))).Code);
    }

    [Theory]
    [InlineData("[Other]\nx=1\n", "no [Version] section")]
    [InlineData("[Version]\nSignature=\"$OTHER$\"\n", "signature '$OTHER$'")]
    public void AnInfThatIsNoDriversIsSaid(string text, string part)
    {
        using var folder = new TempFolder();
        var problem = Assert.Throws<VembarException>(() => DriverPackage.Read(folder.Write("x.inf", text)));
        Assert.Contains(part, problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void DriverFoldersAreSearchedAtAnyDepth()
    {
        Assert.Equal(4, FoundInf.Find(demo.At("drivers")).Count);
        Assert.Single(FoundInf.Find(Path.Combine(demo.Driver("pell-barcode"), "pellscan.inf")));
        using var folder = new TempFolder();
        folder.Write("a/b/c/DEEP.INF", "[Version]\nSignature=\"$CHICAGO$\"\n");
        Assert.Single(FoundInf.Find(folder.Path));
        Assert.Equal("no-inf", Assert.Throws<VembarException>(() => FoundInf.Find(demo.At("answers"))).Code);
        Assert.Equal("not-an-inf", Assert.Throws<VembarException>(() => FoundInf.Find(demo.At("orders/lending-desk.yaml"))).Code);
        Assert.Equal("no-such-folder", Assert.Throws<VembarException>(() => FoundInf.Find(folder.At("none"))).Code);
    }
}

using CsCheck;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Expect;
using Vembar.Windows.Inspection;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Files of expectations, and what they ask of installs.</summary>
public sealed class ExpectationTests(DemoFixture demo) : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private CheckResult Check(string what, string expectations) =>
        new CheckHandler(OperationHost.Default).HandleAsync(new CheckRequest(what,
        ImageReference.IsImage(what) ? ImageReference.Parse(what) : null, null, _folder.Write("e.yaml", expectations)), NoProgress.Instance,
        default).GetAwaiter().GetResult();

    private ExpectationOutcome One(string expectation) => Check($"{demo.Archive}#1", $"expect:\n  - {expectation}\n").Expectations.Single();

    [Fact]
    public void WhatIsWrittenFromAnImageHoldsForItAndItsSource()
    {
        var draft = ExpectationDraft.Of(Do.Show(ImageReference.Parse($"{demo.Archive}#1")));
        Assert.Contains("Shelfmark", draft, StringComparison.Ordinal);
        var image = Check($"{demo.Archive}#1", draft);
        Assert.True(image.Ok, string.Join("; ", image.Expectations.Where(e => !e.IsSo).Select(e => $"{e.Text}: {e.Found}")));
        Assert.True(image.Expectations.Count > 5);
        Assert.True(Check(demo.Reference("lending-desk"), draft).Ok);
        Assert.False(Check(demo.Reference("reading-room"), draft).Ok);
    }

    [Theory]
    [InlineData("{program: 'Shelfmark*'}", true)]
    [InlineData("{program: 'shelfmark lending client', version: '>= 7, < 8'}", true)]
    [InlineData("{program: 'Shelfmark*', version: '> 8'}", false)]
    [InlineData("{program: 'Shelfmark*', present: no}", false)]
    [InlineData("{program: 'Minesweeper', present: no}", true)]
    [InlineData("{program: 'Minesweeper'}", false)]
    [InlineData("{package: 'kiosk-tools'}", false)]
    [InlineData("{feature: Viewer, is: on}", false)]
    [InlineData("{state: generalized}", true)]
    [InlineData("{state: in-use}", false)]
    [InlineData("{language: en-gb}", true)]
    [InlineData("{language: cy-GB, present: no}", true)]
    [InlineData("{computer-name: 'WIN-*'}", true)]
    [InlineData("{computer-name: 'TVL-*'}", false)]
    [InlineData("{ready: stop}", true)]
    [InlineData("{ready: note}", false)]
    [InlineData("{file: Windows/System32/ntoskrnl.exe}", true)]
    [InlineData("{file: Windows/System32/none.exe}", false)]
    [InlineData("{file: Windows/System32/none.exe, present: no}", true)]
    [InlineData("{file: Windows/System32/winload.exe, version: '>= 10.0'}", true)]
    [InlineData("{file: Windows/System32/winload.exe, version: '11.*'}", false)]
    [InlineData("{file: Windows/win.ini, version: '1'}", false)]
    [InlineData("{service: disk, start: boot}", true)]
    [InlineData("{registry: 'SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion', value: CurrentBuildNumber, matches: '^2[0-9]+$'}", true)]
    public void EachKindIsLookedAt(string expectation, bool isSo)
    {
        var outcome = One(expectation);
        Assert.Equal((isSo, isSo), (outcome.IsSo, outcome.Found.Length == 0));
        Assert.True(outcome.Text.Length > 0);
    }

    [Fact]
    public void HashesAndDriversAreLookedAt()
    {
        const string Path = "Windows/System32/winload.exe";
        var file = System.IO.Path.Combine(demo.Reference("lending-desk"), Path);
        var blake3 = Tools.Run("b3sum", ["--no-names", file]).Trim();
        var sha256 = Tools.Run("sha256sum", [file]).Split(' ')[0];
        Assert.True(One($"{{file: {Path}, hash: '{blake3}'}}").IsSo);
        Assert.True(One($"{{file: {Path}, hash: 'sha256:{sha256.ToUpperInvariant()}'}}").IsSo);
        Assert.False(One($"{{file: {Path}, hash: '{sha256}'}}").IsSo);
        var profile = demo.At("hardware/oakmere-m4.yaml");
        Assert.Contains("no driver for", One($"{{drivers: '{profile}'}}").Found, StringComparison.Ordinal);
        var archive = demo.CopyArchive(_folder);
        Do.Service($"{archive}#1", null, demo.Add(demo.At("drivers")));
        Assert.True(Check($"{archive}#1", $"expect: [{{drivers: '{profile}'}}]").Ok);
    }

    [Fact]
    public void NotesAreToldAndHinderNothing()
    {
        var result = Check($"{demo.Archive}#1",
            "expect: [{program: Minesweeper, severity: note, text: it should be fun, mend: install it}]");
        Assert.True(result.Ok);
        Assert.Equal(("it should be fun", "install it", false),
            (result.Expectations[0].Text, result.Expectations[0].Remedy, result.Expectations[0].IsSo));
    }

    [Theory]
    [InlineData("expect: []", "no expectations")]
    [InlineData("rules: [{program: x}]", "'rules' is not known")]
    [InlineData("expect: [{prog: x}]", "'prog' is not known")]
    [InlineData("expect: [{program: x, service: y}]", "exactly one of")]
    [InlineData("expect: [{program: x, start: boot}]", "cannot have 'start'")]
    [InlineData("expect: [{program: x, version: 'new'}]", "no version")]
    [InlineData("expect: [{program: x, version: '1', present: no}]", "exactly one thing")]
    [InlineData("expect: [{feature: x}]", "exactly one thing")]
    [InlineData("expect: [{feature: x, is: maybe}]", "on or off")]
    [InlineData("expect: [{drivers: nowhere.yaml}]", "nowhere.yaml")]
    [InlineData("expect: [{ready: often}]", "stop, warn, note")]
    [InlineData("expect: [{file: a, hash: abc}]", "no hash")]
    [InlineData("expect: [{state: x, is: on}]", "nothing else is asked")]
    public void MistakesAreToldWithTheirLines(string text, string says)
    {
        var problem = Assert.Throws<VembarException>(() => ReadinessRule.ReadExpectations(_folder.Write("e.yaml", text)));
        Assert.Equal("bad-expectations", problem.Code);
        Assert.Contains(says, problem.Message + string.Join(' ', problem.Details), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("7.4", "7.4", true)]
    [InlineData("7.4", "7.4.0", true)]
    [InlineData("7.4", "7.4.1", false)]
    [InlineData("7.*", "7.4.1", true)]
    [InlineData("7.*", "70.1", false)]
    [InlineData(">= 7.4, < 8", "7.10", true)]
    [InlineData(">=7.4 <8", "8.0", false)]
    [InlineData("> 1.2", "v1.10-beta", true)]
    [InlineData("<= 2026.10", "2026.9", true)]
    [InlineData("1", "", false)]
    [InlineData("1", "one", false)]
    [InlineData("> 1", "99999999999999999999", false)]
    public void RangesHoldWhatTheySay(string range, string version, bool holds) =>
        Assert.Equal(holds, VersionRange.Parse(range)!.Holds(version));

    [Theory]
    [InlineData("")]
    [InlineData("new")]
    [InlineData(">")]
    [InlineData("1.2.x")]
    [InlineData(">= 1.*")]
    [InlineData("1 || 2")]
    public void RangesThatAreNoneAreRefused(string range) => Assert.Null(VersionRange.Parse(range));

    [Fact]
    public void AnyTextIsARangeOrNone() => Gen.String[Gen.Char["0123456789.<>=, *v-"], 0, 20].Sample(text =>
    {
        if (VersionRange.Parse(text) is { } range)
            _ = range.Holds("1.2.3");
    });

    [Fact]
    public void DamagedProgramsHaveNoVersionAndNoSignatureButEndNothing()
    {
        var file = File.ReadAllBytes(Path.Combine(demo.Reference("lending-desk"), "Windows/System32/winload.exe"));
        Assert.NotNull(ProgramVersion.Of(file));
        Gen.Select(Gen.Int[0, 1023], Gen.Byte, Gen.Int[0, 1023], Gen.Byte, Gen.Int[1, file.Length]).Sample(change =>
        {
            var (at, value, also, other, length) = change;
            var damaged = file[..length];
            damaged[Math.Min(at, length - 1)] = value;
            damaged[Math.Min(also, length - 1)] = other;
            _ = ProgramVersion.Of(damaged);
            _ = ProgramSignature.Of(damaged);
        }, iter: 2000);
    }
}

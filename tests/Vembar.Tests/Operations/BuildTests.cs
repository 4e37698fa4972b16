using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Builds;
using Vembar.Operations.Mark;
using Vembar.Operations.Project;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests.Operations;

/// <summary>Builds: from a recipe to an image in its archive, which changes once or not at all.</summary>
public sealed class BuildTests(DemoFixture demo) : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly List<BuildState> _seen = [];
    private IReadOnlyList<Site> _sites = [];

    private void Recipe(string more, string? from = null, string ready = "accept: all") => File.WriteAllText(_folder.At("desk.yaml"),
        $"from: '{from ?? $"{demo.Archive}#1"}'\ncapture: {{archive: desks.vmb, name: Desk}}\nready: {{{ready}}}\n{more}");

    private Task<BuildResult> BuildAsync(string? resume = null, Action<BuildState>? seen = null,
        CancellationToken cancellation = default) =>
        new BuildHandler(OperationHost.Default).HandleAsync(new BuildRequest
        {
            Read = version => RecipeFile.Read(_folder.At("desk.yaml"), new RecipeLookup(OperationHost.Default).Options(
                new Dictionary<string, string>(), null, version)),
            Builds = _folder.At("builds"),
            Resume = resume,
            Sites = _sites,
            Changed = (state, _) =>
            {
                _seen.Add(state);
                seen?.Invoke(state);
            },
        }, NoProgress.Instance, cancellation);

    private IReadOnlyList<ImageRecord> Images()
    {
        using var archive = ArchiveReader.Open(_folder.At("desks.vmb"), LocalFileSystem.Instance);
        return archive.Images;
    }

    private void Expect(string text) => File.WriteAllText(_folder.At("expected.yaml"), $"expect:\n  - {text}\n");

    private static IEnumerable<(string, BuildStepState)> StepsOf(BuildResult result) => result.State.Steps.Select(s => (s.Name, s.State));

    // What is the same is not made again, and the archive keeps every byte; what is not, is.
    [Fact]
    public async Task WhatDidNotChangeIsUsedAgain()
    {
        Expect("state: generalized");
        File.WriteAllText(_folder.At("order.yaml"), "changes:\n  - remove: 'pagefile.sys'\n");
        Recipe("expect: expected.yaml\nmark: {channel: pilot}\n");
        var first = await BuildAsync();
        Assert.Equal((BuildOutcome.Done, null), (first.State.Outcome, first.Failure));
        var image = Assert.Single(Images());
        Assert.Equal(("Desk", first.State.Version, "pilot"), (image.Name, image.Version, Assert.Single(image.Channels!)));
        Assert.False(File.Exists(Path.Combine(first.Folder!, "work.vmb")));
        var bytes = File.ReadAllBytes(_folder.At("desks.vmb"));
        var again = await BuildAsync();
        Assert.True(again.State.IsReused);
        Assert.Equal(bytes, File.ReadAllBytes(_folder.At("desks.vmb")));
        // Another expectation is looked at in the image that is there.
        Expect("language: en-GB");
        Assert.Equal([("capture", BuildStepState.Reused), ("expect", BuildStepState.Done), ("add", BuildStepState.Reused)],
            StepsOf(await BuildAsync()));
        Assert.Equal(bytes, File.ReadAllBytes(_folder.At("desks.vmb")));
    }

    // Three steps, of which the last changes, then the one before; what lies before is kept, also where it was kept twice.
    [Fact]
    public async Task OnlyWhatComesAfterAChangeIsMadeAgain()
    {
        void Order(string name, string text) =>
            File.WriteAllText(_folder.At(name), $"changes:\n  - put: '{text}'\n    to: Users/Public/\n");
        File.WriteAllText(_folder.At("a.txt"), "a");
        File.WriteAllText(_folder.At("b.txt"), "b");
        File.WriteAllText(_folder.At("c.txt"), "c");
        Order("one.yaml", "a.txt");
        Order("two.yaml", "b.txt");
        Recipe("service: [one.yaml, two.yaml]\n");
        var first = await BuildAsync();
        Assert.True(first.Failure is null, first.Failure?.Message);
        Order("two.yaml", "c.txt");
        Assert.Equal([("capture", BuildStepState.Reused), ("service", BuildStepState.Reused), ("service", BuildStepState.Done),
            ("add", BuildStepState.Done)], StepsOf(await BuildAsync()));
        Assert.Equal(["a.txt", "c.txt"], Names("2"));
        Order("one.yaml", "b.txt");
        Assert.Equal([("capture", BuildStepState.Reused), ("service", BuildStepState.Done), ("service", BuildStepState.Done),
            ("add", BuildStepState.Done)], StepsOf(await BuildAsync()));
        Assert.Equal(["b.txt", "c.txt"], Names("3"));
        // What is kept is not whole any more.
        File.WriteAllBytes(_folder.At("builds/desk/kept.vmb"), new byte[5000]);
        Order("two.yaml", "a.txt");
        Assert.All((await BuildAsync()).State.Steps, s => Assert.Equal(BuildStepState.Done, s.State));
        Assert.Equal(["a.txt", "b.txt"], Names("4"));
        // Nor is its base: the archive was rewritten without the version that it stands on.
        Do.Compact(_folder.At("desks.vmb"));
        Order("two.yaml", "c.txt");
        var last = await BuildAsync();
        Assert.Equal(BuildOutcome.Done, last.State.Outcome);
        Assert.Equal(["b.txt", "c.txt"], Names("5"));
    }

    private List<string> Names(string image)
    {
        using var archive = ArchiveReader.Open(_folder.At("desks.vmb"), LocalFileSystem.Instance);
        var tree = new ImageTree(archive, archive.Find(image, TimeProvider.System).Root, "");
        var folder = WindowsPath.Parse("Users/Public");
        return [.. tree.Entries(tree.Find(folder)!, folder).Select(e => e.Name).Where(n => n.EndsWith(".txt", StringComparison.Ordinal))
            .Order(StringComparer.Ordinal)];
    }

    [Fact]
    public async Task WhatIsNotAsExpectedIsNotAddedAndCanBeGoneOnWith()
    {
        Expect("language: cy-GB");
        Recipe("expect: expected.yaml\n");
        var failed = await BuildAsync();
        Assert.True(failed.IsRefused);
        Assert.Equal([("capture", BuildStepState.Done), ("expect", BuildStepState.Failed), ("add", BuildStepState.Waiting)],
            StepsOf(failed));
        Assert.False(File.Exists(_folder.At("desks.vmb")));
        Expect("language: en-GB");
        _seen.Clear();
        var done = await BuildAsync(failed.State.Run);
        Assert.Equal((BuildOutcome.Done, failed.State.Run), (done.State.Outcome, done.State.Run));
        // What was captured is not captured again.
        Assert.DoesNotContain(_seen, s => s.Steps[0].State == BuildStepState.Running);
        Assert.Single(Images());
        Assert.Equal("run-done", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync(failed.State.Run))).Code);
        Assert.Equal("no-such-run", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync("2020-01-01.1"))).Code);
    }

    // Something is asked of an image that an earlier run made, is not so, and is then.
    [Fact]
    public async Task WhatIsAskedOfAnImageThatIsThereCanBeGoneOnWith()
    {
        Recipe("");
        await BuildAsync();
        var bytes = File.ReadAllBytes(_folder.At("desks.vmb"));
        Expect("language: cy-GB");
        Recipe("expect: expected.yaml\n");
        var failed = await BuildAsync();
        Assert.Equal((BuildOutcome.Failed, true), (failed.State.Outcome, failed.IsRefused));
        Expect("language: en-GB");
        var done = await BuildAsync(failed.State.Run);
        Assert.Equal((BuildOutcome.Done, null), (done.State.Outcome, done.Failure));
        Assert.Equal(bytes, File.ReadAllBytes(_folder.At("desks.vmb")));
    }

    // Ended at each step in turn, and gone on with.
    [Theory]
    [InlineData("capture")]
    [InlineData("expect")]
    [InlineData("add")]
    public async Task AStepThatWasEndedIsDoneAgain(string name)
    {
        Expect("language: en-GB");
        Recipe("expect: expected.yaml\n");
        using var stop = new CancellationTokenSource();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => BuildAsync(seen: state =>
        {
            if (state.Steps.Any(s => s.Name == name && s.State == BuildStepState.Running))
                stop.Cancel();
        }, cancellation: stop.Token));
        Assert.False(File.Exists(_folder.At("desks.vmb")) && Images().Count > 0);
        var run = Assert.Single(BuildRun.Of(_folder.At("builds"), "desk"));
        Assert.Equal(BuildOutcome.Stopped, run.Read()!.Outcome);
        Assert.Equal(BuildOutcome.Done, (await BuildAsync(run.Name)).State.Outcome);
        Assert.Single(Images());
    }

    // Three months: the version before retires, and only so many are kept; what is locked or in a channel stays.
    [Fact]
    public async Task VersionsComeAndGo()
    {
        Directory.CreateDirectory(_folder.At("reference"));
        for (var month = 1; month <= 4; month++)
        {
            File.WriteAllText(_folder.At("reference/month.txt"), $"{month}");
            Recipe("mark: {channel: pilot, retire-before: 30}\nkeep: 2\n", from: "reference", ready: "check: no");
            var done = await BuildAsync();
            Assert.True(done.Failure is null, done.Failure?.Message);
            if (month == 1)
                Do.Mark(new MarkRequest { Image = new ImageReference(_folder.At("desks.vmb"), "1"), Locked = true });
        }
        var left = Images().OrderBy(i => i.Number).ToList();
        Assert.Equal([1, 3, 4], left.Select(i => i.Number));
        Assert.Equal((true, null), (left[0].Locked, left[0].Channels));
        Assert.NotNull(left[1].Retires);
        Assert.Equal(["pilot"], left[2].Channels!);
        var changes = BuildRun.Of(_folder.At("builds"), "desk")[0].Read()!.Changes!;
        Assert.Equal((0, 0, 1), (changes.Added, changes.Removed, changes.Changed));
    }

    [Fact]
    public async Task ASiteThatIsAwayGetsItLater()
    {
        Recipe("mark: {channel: pilot}\nsync: all\n");
        Directory.CreateDirectory(_folder.At("away.vmb"));
        _sites = [new Site("Here", _folder.At("here.vmb"), ["pilot"], 0, []), new Site("Away", _folder.At("away.vmb"), ["pilot"], 0, [])];
        var partly = await BuildAsync();
        Assert.Equal((BuildOutcome.Partly, false), (partly.State.Outcome, partly.IsRefused));
        Assert.Contains("'Away' has not got it", partly.State.Problem, StringComparison.Ordinal);
        Assert.Single(Images());
        Assert.True(File.Exists(_folder.At("here.vmb")));
        Directory.Delete(_folder.At("away.vmb"));
        Assert.Equal(BuildOutcome.Done, (await BuildAsync(partly.State.Run)).State.Outcome);
        Assert.True(File.Exists(_folder.At("away.vmb")));
        Assert.Single(Images());
    }

    [Fact]
    public async Task OneAtATimeAndNothingThatCannotBe()
    {
        Recipe("");
        Directory.CreateDirectory(_folder.At("builds/desk"));
        using (BuildLock.Take(_folder.At("builds/desk")))
            Assert.Equal("build-running", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync())).Code);
        Recipe("", from: _folder.At("nothing"));
        Assert.Equal("no-source", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync())).Code);
        Recipe("", from: _folder.Path);
        Assert.Equal("runs-in-source", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync())).Code);
        Recipe("sync: Nowhere\n");
        Assert.Equal("no-such-site", (await Assert.ThrowsAsync<VembarException>(() => BuildAsync())).Code);
        Assert.Empty(BuildRun.Of(_folder.At("builds"), "desk"));
    }

    // Who is told hears of failures too; who cannot be told leaves the image where it is.
    [Fact]
    public async Task SomebodyIsTold()
    {
        Expect("language: cy-GB");
        Recipe($"expect: expected.yaml\ntell: {{run: [sh, -c, '(cat; echo $VEMBAR_BUILD_OUTCOME) > {_folder.At("told")}']}}\n");
        await BuildAsync();
        Assert.EndsWith("failed\n", File.ReadAllText(_folder.At("told")), StringComparison.Ordinal);
        Recipe("tell: {run: [sh, -c, 'exit 7']}\n");
        var done = await BuildAsync();
        Assert.Equal(BuildOutcome.Partly, done.State.Outcome);
        Assert.Contains("ended with 7", done.State.Problem, StringComparison.Ordinal);
        Assert.Single(Images());
    }

    public void Dispose() => _folder.Dispose();
}

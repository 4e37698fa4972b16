using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.History;
using Vembar.Operations.Mark;
using Vembar.Operations.Project;
using Vembar.Operations.Sites;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;
using Vembar.Store.Reading;
using Xunit;

namespace Vembar.Tests;

/// <summary>The project file, and the sites that it names.</summary>
public sealed class SiteTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private VembarException Wrong(string text) =>
        Assert.Throws<VembarException>(() => ProjectFile.Read(_folder.Write("vembar.yaml", text)));

    [Fact]
    public void TheProjectFileSaysWhatHoldsForAllCommands()
    {
        var project = ProjectFile.Read(_folder.Write("deep/vembar.yaml", """
            archive: images/desks.vmb
            version: "{year}.{counter:2}"
            channels: [pilot, production]
            trust: [trust, /etc/house.pem]
            hardware: hardware
            rules: rules.yaml
            station: https://station.tarnvalley.example
            sites:
              Staithe: {place: "oci://registry.example/desks", channels: production}
              Head office: {place: copy.vmb, newest: 3, names: ["Lending*"]}
            """));
        Assert.Equal(_folder.At("deep/images/desks.vmb"), project.Archive);
        Assert.Equal(["pilot", "production"], project.Channels);
        Assert.Equal([_folder.At("deep/trust"), "/etc/house.pem"], project.Trust);
        Assert.Equal([_folder.At("deep/hardware")], project.Hardware);
        Assert.Equal("2026.01", project.Versions!.Next(new DateOnly(2026, 5, 5), []));
        Assert.Equal(("oci://registry.example/desks", 0), (project.Sites[0].Place, project.Sites[0].Newest));
        Assert.Equal((_folder.At("deep/copy.vmb"), 3), (project.Sites[1].Place, project.Sites[1].Newest));
        Directory.CreateDirectory(_folder.At("deep/a/b/c"));
        Assert.Equal(_folder.At("deep/vembar.yaml"), ProjectFile.Find(_folder.At("deep/a/b/c"), out _));
        ProjectFile.Read(_folder.Write("draft/vembar.yaml", ProjectDraft.Text("it's.vmb")));
    }

    [Theory]
    [InlineData("archiv: a.vmb", "line 1", "archive")]
    [InlineData("archive: [a, b]", "line 1", "text")]
    [InlineData("version: \"{jahr}\"", "jahr", "line 1")]
    [InlineData("channels: [1st]", "1st", "line 1")]
    [InlineData("station: ftp://x", "ftp://x", "line 1")]
    [InlineData("sites: []", "mapping", "line 1")]
    [InlineData("sites: {A: {channels: pilot}}", "no place", "line 1")]
    [InlineData("sites: {A: {place: a.vmb}}", "keeps nothing", "line 1")]
    [InlineData("sites: {A: {place: a.vmb, newest: -1}}", "newest", "line 1")]
    [InlineData("sites: {A: {place: a.vmb, newest: 1}, B: {place: a.vmb, newest: 1}}", "two sites", "line 1")]
    [InlineData("sites: {A: {place: a.vmb, newest: 1, keep: x}}", "keep", "line 1")]
    [InlineData("channels: [pilot]\nsites: {A: {place: a.vmb, channels: [production]}}", "production", "pilot")]
    public void MistakesInItAreToldWithTheirLines(string text, string says, string also)
    {
        var problem = Wrong(text);
        Assert.Equal("bad-project", problem.Code);
        var all = problem.Message + string.Join(' ', problem.Details);
        Assert.Contains(says, all, StringComparison.Ordinal);
        Assert.Contains(also, all, StringComparison.Ordinal);
    }

    private string Archive(params string[] versions)
    {
        var archive = _folder.At("main.vmb");
        foreach (var version in versions)
        {
            _folder.Write("src/file", $"content of {version}");
            Do.Capture(_folder.At("src"), archive, "Desk", r => r with { Version = version });
        }
        return archive;
    }

    private static TResult Run<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request) =>
        handler.HandleAsync(request, NoProgress.Instance, default).GetAwaiter().GetResult();

    private IReadOnlyList<SyncResult> Sync(OperationHost host, string archive, params Site[] sites) =>
        Run(new SyncHandler(host), new SyncRequest(archive, sites, false, _folder.At("memory/sites.json"), default));

    private SiteState Look(OperationHost host, string archive, Site site, bool verify = false) =>
        Run(new SitesHandler(host), new SitesRequest(archive, [site], verify, _folder.At("memory/sites.json")))[0];

    private static Site At(string place, int newest = 0, params string[] channels) => new(place, place, channels, newest, []);

    private static void Mark(string archive, string which, string? channel = null, bool? locked = null) => Do.Mark(new MarkRequest
    {
        Image = ImageReference.Parse($"{archive}#{which}"),
        Channels = channel is null ? [] : [channel],
        Locked = locked,
    });

    private static List<string> Versions(string archive)
    {
        using var reader = ArchiveReader.Open(archive);
        return [.. reader.Images.Select(i => i.Version)];
    }

    [Fact]
    public void ASiteGetsWhatItLacksAndLosesWhatItNeedNotHave()
    {
        var archive = Archive("1", "2", "3");
        var site = At(_folder.At("site.vmb"), 2);
        Assert.Equal(["2", "3"], Look(OperationHost.Default, archive, site).Images[0].Missing);
        Assert.Equal(["copy", "copy"], Sync(OperationHost.Default, archive, site)[0].Steps.Select(s => s.What));
        Assert.True(Look(OperationHost.Default, archive, site).IsInOrder);
        Archive("4");
        var small = Sync(OperationHost.Default, archive, site)[0];
        Assert.Equal(["copy", "drop"], small.Steps.Select(s => s.What));
        Assert.Equal(["3", "4"], Versions(site.Place));
        Assert.Empty(Sync(OperationHost.Default, archive, site)[0].Steps);
        Assert.NotNull(Look(OperationHost.Default, archive, site).Compared);
    }

    [Fact]
    public void ChannelsMoveAtTheSiteToo()
    {
        var archive = Archive("1", "2");
        var site = At(_folder.At("site.vmb"), 0, "production");
        Mark(archive, "1", "production");
        Sync(OperationHost.Default, archive, site);
        Assert.Equal(["1"], Versions(site.Place));
        Mark(archive, "2", "production");
        Assert.Equal(["2"], Look(OperationHost.Default, archive, site).Images[0].Missing);
        Sync(OperationHost.Default, archive, site);
        Assert.Equal(["2"], Versions(site.Place));
        Assert.Equal("2", Do.Record(ImageReference.Parse($"{site.Place}#Desk@production")).Version);
        Mark(archive, "2", "pilot");
        Assert.Equal(["2"], Look(OperationHost.Default, archive, site).Images[0].Marks);
        Assert.Equal("mark", Sync(OperationHost.Default, archive, site)[0].Steps.Single().What);
        Assert.Equal("2", Do.Record(ImageReference.Parse($"{site.Place}#Desk@pilot")).Version);
    }

    [Fact]
    public void LockedImagesStayWhateverIsWanted()
    {
        var archive = Archive("1", "2");
        var site = At(_folder.At("site.vmb"), 2);
        Sync(OperationHost.Default, archive, site);
        Mark(site.Place, "Desk@1", locked: true);
        Archive("3");
        var steps = Sync(OperationHost.Default, archive, site)[0].Steps;
        Assert.Contains(steps, s => s is { What: "keep", Done: false } && s.Why.Contains("locked", StringComparison.Ordinal));
        Assert.Contains("1", Versions(site.Place));
        // One that has another content under the same version is replaced, unless it is locked.
        var other = _folder.At("other.vmb");
        _folder.Write("src/file", "something else");
        Do.Capture(_folder.At("src"), other, "Desk", r => r with { Version = "3" });
        var second = At(other, 1);
        Assert.Equal(["3"], Look(OperationHost.Default, archive, second).Images[0].Differing);
        Mark(other, "1", locked: true);
        Assert.Equal("keep", Sync(OperationHost.Default, archive, second)[0].Steps.Single().What);
        Mark(other, "1", locked: false);
        Assert.Equal("replace", Sync(OperationHost.Default, archive, second)[0].Steps.Single().What);
        Assert.True(Look(OperationHost.Default, archive, second).IsInOrder);
    }

    [Fact]
    public void OneThatFailsKeepsNoneOfTheOthersBack()
    {
        using var registry = new TestRegistry();
        using var files = new PlaceFileSystem(LocalFileSystem.Instance, () => new PlaceOptions
        {
            SpoolFolder = _folder.At("spool"),
            Retries = 0,
        });
        var host = new OperationHost { Files = files };
        var archive = Archive("1");
        _folder.Write("broken.vmb", "no archive");
        Site[] sites = [At(_folder.At("broken.vmb"), 1), At(registry.Address, 1), At(_folder.At("no/folder/a.vmb"), 1),
            At(archive, 1), At(_folder.At("site.vmb"), 1)];
        var results = Sync(host, archive, sites);
        Assert.Equal([false, true, false, false, true], results.Select(r => r.Problem is null));
        Assert.Equal(["not-an-archive", null, "place-unreachable", "same-archive", null], results.Select(r => r.Problem?.Code));
        Assert.True(Look(host, archive, sites[1]).IsInOrder);
        var blobs = registry.Blobs.Values.Sum(b => b.Length);
        Archive("2");
        Sync(host, archive, sites[1]);
        Assert.InRange(registry.Blobs.Values.Sum(b => b.Length) - blobs, 1, 40_000);
        // What cannot be reached any more is told with when it was compared last.
        registry.Fault = _ => new TestRegistry.Failure(null);
        var state = Look(host, archive, sites[1]);
        Assert.NotNull(state.Problem);
        Assert.NotNull(state.Compared);
    }

    [Fact]
    public void DamageAtASiteIsFoundWhenItIsRead()
    {
        var archive = Archive("1");
        var site = At(_folder.At("site.vmb"), 1);
        Sync(OperationHost.Default, archive, site);
        Assert.True(Look(OperationHost.Default, archive, site, verify: true).IsInOrder);
        var bytes = File.ReadAllBytes(site.Place);
        using (var reader = ArchiveReader.Open(site.Place))
            bytes[reader.Header.Length + 200] ^= 1;
        File.WriteAllBytes(site.Place, bytes);
        var state = Look(OperationHost.Default, archive, site, verify: true);
        Assert.False(state.IsInOrder);
        Assert.Contains(state.Images, i => i.Damaged.Count > 0);
    }

    [Fact]
    public void APlanChangesNothing()
    {
        var archive = Archive("1");
        var site = At(_folder.At("site.vmb"), 1);
        var steps = Run(new SyncHandler(OperationHost.Default), new SyncRequest(archive, [site], true, null, default))[0].Steps;
        Assert.Equal(("copy", false), (steps.Single().What, steps.Single().Done));
        Assert.False(File.Exists(site.Place));
    }
}

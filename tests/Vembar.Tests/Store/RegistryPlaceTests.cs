using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Copy;
using Vembar.Operations.Deploy;
using Vembar.Operations.Drop;
using Vembar.Operations.History;
using Vembar.Operations.Mark;
using Vembar.Operations.Service;
using Vembar.Operations.Verify;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Archives in registries, also in those that fail.</summary>
public sealed class RegistryPlaceTests : IDisposable
{
    private readonly TempFolder _folder = new();
    private readonly TestRegistry _registry = new();
    private readonly PlaceFileSystem _files;
    private readonly OperationHost _host;

    public RegistryPlaceTests()
    {
        _files = Files();
        _host = new OperationHost { Files = _files };
        for (var file = 0; file < 60; file++)
            _folder.Write($"src/file{file}.bin", Random(file, 20_000));
    }

    public void Dispose()
    {
        _files.Dispose();
        _registry.Dispose();
        _folder.Dispose();
    }

    private static byte[] Random(int seed, int length)
    {
        var bytes = new byte[length];
        new Random(seed).NextBytes(bytes);
        return bytes;
    }

    private PlaceFileSystem Files(Func<Uri, PlaceCredentials?>? credentials = null) => new(LocalFileSystem.Instance, () => new PlaceOptions
    {
        SpoolFolder = _folder.At("spool"),
        Retries = 2,
        Credentials = credentials ?? (_ => null),
    });

    private string Place => _registry.Address;

    private TResult Run<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request) =>
        handler.HandleAsync(request, NoProgress.Instance, default).GetAwaiter().GetResult();

    private ImageRecord Capture(string? version = null) => Run(new CaptureHandler(_host), new CaptureRequest
    {
        Source = _folder.At("src"),
        Archive = Place,
        Name = "Desk",
        Version = version ?? "",
    }).Image;

    private IReadOnlyList<ImageRecord> List()
    {
        using var archive = ArchiveReader.Open(Place, _files);
        return archive.Images;
    }

    private ImageReference Image(string which) => ImageReference.Parse($"{Place}#{which}");

    private static string Code(Action work) => Assert.Throws<VembarException>(work).Code;

    [Fact]
    public void EverythingThatChangesAnArchiveWorksThere()
    {
        Capture("1");
        _folder.Write("src/more.bin", Random(99, 30_000));
        Capture("2");
        Run(new MarkHandler(_host), new MarkRequest { Image = Image("Desk@1"), Channels = ["production"], Locked = true });
        Run(new RetitleHandler(_host), new RetitleRequest { Image = Image("Desk@2"), Note = "n" });
        Assert.Equal("image-locked", Code(() => Run(new DropHandler(_host), new DropRequest(Image("1"), null, default))));
        Run(new ServiceHandler(_host), new ServiceRequest
        {
            Image = Image("Desk"),
            Changes = [new PutChange(_folder.Write("put", "put"), "put.txt")],
            As = "Desk",
        });
        Assert.Equal(3, List().Count);
        Run(new DropHandler(_host), new DropRequest(Image("3"), null, default));
        var history = Run(new HistoryHandler(_host), new HistoryRequest(Place)).States;
        Run(new RewindHandler(_host), new RewindRequest(Place, history[^2].Number, default));
        Assert.Equal(3, List().Count);
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
        var before = _registry.Manifests["latest"];
        Run(new CompactHandler(_host), new CompactRequest(Place, null, null, default));
        Assert.Equal(["1", "2"], List().Take(2).Select(i => i.Version));
        Assert.Equal("production", List()[0].Channels![0]);
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
        Run(new DeployHandler(_host), new DeployRequest { Image = Image("Desk@2"), Target = _folder.At("out"), Verify = true });
        Assert.Equal(Do.Listing(_folder.At("src")), Do.Listing(_folder.At("out")));
        Assert.NotEqual(before, _registry.Manifests["latest"]);
        // Each state has a tag of its own too.
        Assert.True(_registry.Manifests.Keys.Count(k => k.StartsWith("state-", StringComparison.Ordinal)) >= 7);
    }

    [Fact]
    public void WhatIsThereIsAnArtifactOfConsecutiveSlices()
    {
        Capture("1");
        _folder.Write("src/more.bin", Random(99, 30_000));
        Capture("2");
        var manifest = JsonNode.Parse(_registry.Manifests["latest"])!;
        Assert.Equal("application/vnd.vembar.archive.v1", (string)manifest["artifactType"]!);
        var whole = manifest["layers"]!.AsArray().SelectMany(l => _registry.Blobs[(string)l!["digest"]!]).ToArray();
        File.WriteAllBytes(_folder.At("joined.vmb"), whole);
        Assert.True(Do.Verify(_folder.At("joined.vmb")).Ok);
        var summary = JsonNode.Parse(_registry.Blobs[(string)manifest["config"]!["digest"]!])!;
        Assert.Equal(["1", "2"], summary["images"]!.AsArray().Select(i => (string)i!["version"]!));
    }

    [Fact]
    public void ASecondEditionSendsWhatItAddsAndNoMore()
    {
        var local = _folder.At("local.vmb");
        Do.Capture(_folder.At("src"), local, "Desk", r => r with { Version = "1" });
        var first = new FileInfo(local).Length;
        for (var file = 0; file < 30; file++)
            _folder.Write($"src/more{file}.bin", Random(500 + file, 30_000));
        Do.Capture(_folder.At("src"), local, "Desk", r => r with { Version = "2" });
        var added = new FileInfo(local).Length - first;
        foreach (var version in (string[])["1", "2"])
        {
            var sent = _registry.Blobs.Values.Sum(b => (long)b.Length);
            Run(new CopyHandler(_host), new CopyRequest(ImageReference.Parse($"{local}#Desk@{version}"), Place, null, null, default));
            if (version == "2")
                Assert.InRange(_registry.Blobs.Values.Sum(b => (long)b.Length) - sent, 1, added * 102 / 100);
        }
    }

    [Fact]
    public async Task OfTwoWritersOneWinsAndTheOtherLosesNothing()
    {
        Capture("1");
        _folder.Write("src/more.bin", Random(77, 300_000));
        var options = new WriterOptions { Files = _files };
        using (var slow = await ArchiveWriter.OpenAsync(Place, options))
        {
            for (var chunk = 0; chunk < 40; chunk++)
                slow.Add(Vembar.Store.Format.BlockKind.Content, Random(1000 + chunk, 300_000));
            // Somebody else is quicker.
            Run(new RetitleHandler(_host), new RetitleRequest { Image = Image("1"), Note = "quick" });
            var problem = Assert.Throws<VembarException>(() => slow.CommitImage(slow.Base.Images[0] with { Note = "slow" }, 1, "slow"));
            Assert.Equal("place-changed", problem.Code);
        }
        Assert.Equal("quick", List()[0].Note);
        Assert.Single(Directory.GetFiles(_folder.At("spool"), "*.tail"));
        Capture("2");
        Assert.Equal(2, List().Count);
        Assert.Empty(Directory.GetFiles(_folder.At("spool")));
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
    }

    [Fact]
    public void ATagThatMovesBetweenSlicesAndManifestIsSeen()
    {
        Capture("1");
        _folder.Write("src/more.bin", Random(77, 300_000));
        var other = Encoding.UTF8.GetBytes(Encoding.UTF8.GetString(_registry.Manifests["latest"])
            .Replace("image.version\":\"1\"", "image.version\":\"9\"",
            StringComparison.Ordinal));
        _registry.Fault = request =>
        {
            if (request.Method == "PUT" && request.Path.Contains("/manifests/state-", StringComparison.Ordinal))
                _registry.Manifests["latest"] = other;
            return null;
        };
        Assert.Equal("place-changed", Code(() => Capture("2")));
        _registry.Fault = null;
        Assert.Equal(other, _registry.Manifests["latest"]);
        Assert.Single(List());
        Capture("2");
        Assert.Equal(2, List().Count);
    }

    [Theory]
    [InlineData("PATCH", 0)]
    [InlineData("PUT /manifests/latest", 0)]
    [InlineData("PUT /manifests/state", 0)]
    [InlineData("POST", 0)]
    [InlineData("PUT /blobs", 0)]
    [InlineData("PATCH", 507)]
    [InlineData("PUT /manifests", 413)]
    [InlineData("POST", 403)]
    [InlineData("HEAD /blobs", 500)]
    public void OneThatDiesOrRefusesLeavesTheArchiveAsItWas(string which, int status)
    {
        Capture("1");
        var before = _registry.Manifests["latest"];
        _folder.Write("src/more.bin", Random(77, 300_000));
        var (method, path) = which.Split(' ') is [var m, var p] ? (m, p) : (which, "");
        _registry.Fault = request => request.Method == method && request.Path.Contains(path, StringComparison.Ordinal)
            ? new TestRegistry.Failure(status == 0 ? null : new TestResponse(status, null, ("Retry-After", "0"))) : null;
        var problem = Assert.Throws<VembarException>(() => Capture("2"));
        Assert.Equal(ErrorKind.Environment, problem.Kind);
        _registry.Fault = null;
        Assert.Equal(before, _registry.Manifests["latest"]);
        Assert.Single(List());
        // What was sent is not sent again.
        Capture("2");
        Assert.Equal(2, List().Count);
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
    }

    [Fact]
    public void AnUploadThatBreaksOffGoesOnWhereTheRegistrySays()
    {
        Capture("1");
        for (var file = 0; file < 3; file++)
            _folder.Write($"src/large{file}.bin", Random(700 + file, 9 << 20));
        var failed = 0;
        _registry.Fault = request =>
        {
            if (request.Method != "PATCH" || Interlocked.Increment(ref failed) != 3)
                return null;
            // It took the part, and the answer got lost.
            _registry.Answer(request);
            return new TestRegistry.Failure(null);
        };
        Capture("2");
        Assert.True(failed >= 3);
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
        var sent = _registry.Server.Requests.Where(r => r.Method == "PATCH").Sum(r => (long)r.Body.Length);
        Assert.InRange(sent, 27 << 20, 29 << 20);
    }

    [Fact]
    public void RateLimitsAreKeptTo()
    {
        var turn = 0;
        _registry.Fault = request => Interlocked.Increment(ref turn) % 2 == 1 && request.Method is not "PATCH"
            ? new TestRegistry.Failure(new TestResponse(429, null, ("Retry-After", "0"))) : null;
        Capture("1");
        Assert.Single(List());
    }

    [Fact]
    public void ALostSliceIsDamageThatNamesIt()
    {
        Capture("1");
        var slice = (string)JsonNode.Parse(_registry.Manifests["latest"])!["layers"]![0]!["digest"]!;
        _registry.Blobs.TryRemove(slice, out var bytes);
        var problem = Assert.Throws<VembarException>(List);
        Assert.Equal(ErrorKind.Damaged, problem.Kind);
        Assert.Contains(slice[..19], problem.Message, StringComparison.Ordinal);
        _registry.Blobs[slice] = bytes![..(bytes.Length / 2)];
        Assert.Contains(Assert.Throws<VembarException>(List).Kind, (ErrorKind[])[ErrorKind.Damaged, ErrorKind.Environment]);
    }

    [Theory]
    [InlineData("")]
    [InlineData("{")]
    [InlineData("null")]
    [InlineData("{\"schemaVersion\":2}")]
    [InlineData("{\"artifactType\":\"application/vnd.vembar.archive.v1\",\"layers\":null}")]
    [InlineData("{\"artifactType\":\"application/vnd.vembar.archive.v1\",\"layers\":[null]}")]
    [InlineData("{\"artifactType\":\"application/vnd.vembar.archive.v1\",\"layers\":[{\"mediaType\":\"x\"}]}")]
    [InlineData("{\"artifactType\":\"application/vnd.oci.image.config.v1+json\",\"layers\":[]}")]
    [InlineData("{\"artifactType\":\"application/vnd.vembar.archive.v1\",\"layers\":[]}")]
    public void ManifestsThatAreNoneAreToldInOneLine(string manifest)
    {
        _registry.Manifests["latest"] = Encoding.UTF8.GetBytes(manifest);
        var problem = Assert.Throws<VembarException>(List);
        Assert.Contains(problem.Code, (string[])["bad-answer", "not-an-archive", "archive-damaged"]);
        Assert.DoesNotContain('\n', problem.Message);
    }

    [Fact]
    public void SlicesOfImpossibleSizesAreRefused()
    {
        Capture("1");
        foreach (var size in (string[])["-1", "0", "9223372036854775807"])
        {
            var text = Encoding.UTF8.GetString(_registry.Manifests["latest"]);
            _registry.Manifests["hostile"] = Encoding.UTF8.GetBytes(System.Text.RegularExpressions.Regex.Replace(text,
                "(slice[^}]*\"size\":)\\d+", $"${{1}}{size}"));
            Assert.NotEqual("", Code(() => ArchiveReader.Open(Place + ":hostile", _files).Dispose()));
        }
    }

    [Fact]
    public void TokensAreFetchedWhereTheRegistrySays()
    {
        const string Token = "the-token";
        _registry.Fault = request =>
        {
            if (request.Path == "/token")
            {
                var isRight = request.Header("Authorization") == "Basic " + Convert.ToBase64String("publisher:word"u8);
                return new TestRegistry.Failure(isRight ? new TestResponse(200, Encoding.UTF8.GetBytes(JsonSerializer.Serialize(
                    new Dictionary<string, string> { ["token"] = Token }))) : new TestResponse(401));
            }
            return request.Header("Authorization") == $"Bearer {Token}" ? null : new TestRegistry.Failure(new TestResponse(401, null,
                ("WWW-Authenticate",
                $"Bearer realm=\"http://{_registry.Server.Host}/token\",service=\"r\",scope=\"repository:tarn/desks:pull\"")));
        };
        Assert.Equal("access-denied", Code(() => Capture("1")));
        using var files = Files(_ => new PlaceCredentials("publisher", "word", IsToken: false));
        var host = new OperationHost { Files = files };
        Run(new CaptureHandler(host), new CaptureRequest { Source = _folder.At("src"), Archive = Place, Name = "Desk" });
        Assert.Contains(_registry.Server.Requests,
            r => r.Target.Contains("scope=repository%3Atarn%2Fdesks%3Apull%2Cpush", StringComparison.Ordinal));
        // Only the token server sees the password.
        Assert.All(_registry.Server.Requests.Where(r => r.Path != "/token"),
            r => Assert.DoesNotContain("Basic", r.Header("Authorization") ?? "", StringComparison.Ordinal));
        using var wrong = Files(_ => new PlaceCredentials("publisher", "other", IsToken: false));
        Assert.Equal("access-denied", Code(() => ArchiveReader.Open(Place, wrong).Dispose()));
    }

    [Fact]
    public void AnInterruptedRunLeavesWhatTheNextOneUses()
    {
        Capture("1");
        _folder.Write("src/large.bin", Random(3, 9 << 20));
        _registry.Fault = request => request.Method == "PUT" && request.Path.Contains("/manifests/", StringComparison.Ordinal)
            ? new TestRegistry.Failure(null) : null;
        Assert.Throws<VembarException>(() => Capture("2"));
        _registry.Fault = null;
        var sent = _registry.Server.Requests.Where(r => r.Method == "PATCH").Sum(r => (long)r.Body.Length);
        Assert.Single(Directory.GetFiles(_folder.At("spool"), "*.tail"));
        var again = Run(new CaptureHandler(_host), new CaptureRequest
        {
            Source = _folder.At("src"),
            Archive = Place,
            Name = "Desk",
            Version = "2",
        });
        Assert.InRange(again.Stats.BytesNew, 9 << 20, 10 << 20);
        Assert.Contains(again.Warnings, w => w.Contains("used again", StringComparison.Ordinal));
        Assert.True(Run(new VerifyHandler(_host), new VerifyRequest(Place)).Ok);
        Assert.Empty(Directory.GetFiles(_folder.At("spool")));
        Assert.True(_registry.Server.Requests.Where(r => r.Method == "PATCH").Sum(r => (long)r.Body.Length) > sent);
    }
}

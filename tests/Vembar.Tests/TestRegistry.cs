using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Vembar.Tests;

/// <summary>A registry in memory that speaks as much of the OCI distribution specification as archives need; tests let it fail.</summary>
public sealed class TestRegistry : IDisposable
{
    private readonly ConcurrentDictionary<string, (MemoryStream Bytes, int Id)> _uploads = new();
    private int _next;

    public TestRegistry() => Server = new TestServer(request => Fault?.Invoke(request) is { } fault ? fault.Response : Answer(request));

    public TestServer Server { get; }

    public ConcurrentDictionary<string, byte[]> Blobs { get; } = new();

    public ConcurrentDictionary<string, byte[]> Manifests { get; } = new();

    /// <summary>What it does instead of what it should; null for nothing. A response of null breaks the connection off.</summary>
    public Func<TestRequest, Failure?>? Fault { get; set; }

    /// <summary>Something that goes wrong.</summary>
    public sealed record Failure(TestResponse? Response);

    public string Address => $"oci://{Server.Host}/tarn/desks";

    public static string DigestOf(byte[] bytes) => $"sha256:{Convert.ToHexStringLower(SHA256.HashData(bytes))}";

    /// <summary>Answers a request as a registry should.</summary>
    public TestResponse Answer(TestRequest request)
    {
        var parts = request.Path.Trim('/').Split('/');
        if (request.Path == "/v2/")
            return new TestResponse(200);
        var rest = string.Join('/', parts.SkipWhile(p => p is not ("blobs" or "manifests")));
        if (rest.StartsWith("manifests/", StringComparison.Ordinal))
            return Manifest(request, rest["manifests/".Length..]);
        if (rest.StartsWith("blobs/uploads", StringComparison.Ordinal))
            return Upload(request, rest["blobs/uploads".Length..].Trim('/'));
        var digest = rest["blobs/".Length..];
        return !Blobs.TryGetValue(digest, out var blob) ? new TestResponse(404)
            : request.Method == "HEAD" ? new TestResponse(200, null, ("Content-Length", $"{blob.Length}")) : TestServer.File(request, blob);
    }

    private TestResponse Manifest(TestRequest request, string tag)
    {
        if (request.Method == "PUT")
        {
            Manifests[tag] = request.Body;
            return new TestResponse(201, null, ("Docker-Content-Digest", DigestOf(request.Body)));
        }
        return Manifests.TryGetValue(tag, out var manifest)
            ? new TestResponse(200, manifest, ("Docker-Content-Digest", DigestOf(manifest)),
                ("Content-Type", "application/vnd.oci.image.manifest.v1+json")) : new TestResponse(404);
    }

    private TestResponse Upload(TestRequest request, string id)
    {
        if (request.Method == "POST")
        {
            id = Interlocked.Increment(ref _next).ToString(CultureInfo.InvariantCulture);
            _uploads[id] = (new MemoryStream(), 0);
            return new TestResponse(202, null, ("Location", $"/v2/tarn/desks/blobs/uploads/{id}"), ("Range", "0-0"));
        }
        if (!_uploads.TryGetValue(id, out var upload))
            return new TestResponse(404);
        lock (upload.Bytes)
        {
            switch (request.Method)
            {
                case "DELETE":
                    _uploads.TryRemove(id, out _);
                    return new TestResponse(204);
                case "GET":
                    return new TestResponse(204, null, ("Location", $"/v2/tarn/desks/blobs/uploads/{id}"),
                        ("Range", $"0-{Math.Max(0, upload.Bytes.Length - 1)}"));
                case "PATCH":
                    upload.Bytes.Write(request.Body);
                    return new TestResponse(202, null, ("Location", $"/v2/tarn/desks/blobs/uploads/{id}"),
                        ("Range", $"0-{Math.Max(0, upload.Bytes.Length - 1)}"));
                default:
                    var digest = Uri.UnescapeDataString(request.Target.Split("digest=")[1]);
                    var bytes = upload.Bytes.ToArray();
                    if (DigestOf(bytes) != digest)
                        return new TestResponse(400, Encoding.UTF8.GetBytes("digest"));
                    Blobs[digest] = bytes;
                    _uploads.TryRemove(id, out _);
                    return new TestResponse(201, null, ("Location", $"/v2/tarn/desks/blobs/{digest}"));
            }
        }
    }

    public void Dispose() => Server.Dispose();
}

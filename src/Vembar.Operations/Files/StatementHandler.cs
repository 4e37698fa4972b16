using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Reading;

namespace Vembar.Operations.Files;

/// <summary>Hands out what was signed of an image, and the signatures, for other programs to check.</summary>
public sealed class StatementHandler(OperationHost host) : IOperationHandler<StatementRequest, TakeResult>
{
    /// <summary>Writes the statement and each signature as a file.</summary>
    /// <exception cref="VembarException">There is no such image, nobody signed it, or the files cannot be written.</exception>
    public Task<TakeResult> HandleAsync(StatementRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var archive = ArchiveReader.Open(request.Image.Archive, host.Files);
        var image = archive.Find(request.Image.Which, host.Clock);
        if (image.Signatures is not { Count: > 0 } signatures)
            throw VembarException.Input("not-signed", $"nobody signed image {image.Number} {image.Title} of '{archive.Path}'",
                Advice.Of("sign-first"));
        var files = new List<(string Name, byte[] Bytes)> { ("statement.json", ImageStatement.Of(image)) };
        for (var i = 0; i < signatures.Count; i++)
            files.Add((string.Create(CultureInfo.InvariantCulture, $"signature-{i + 1}.p7s"), signatures[i].Cms));
        var taken = files.Find(f => Path.Exists(Path.Combine(request.To, f.Name)));
        if (taken.Name is not null)
            throw VembarException.Input("target-exists", $"'{Path.Combine(request.To, taken.Name)}' is there already",
                Advice.Of("choose-target"));
        try
        {
            Directory.CreateDirectory(request.To);
            foreach (var (name, bytes) in files)
            {
                using var handle = Posix.OpenFile(Path.Combine(request.To, name), write: true, createNew: true);
                RandomAccess.Write(handle, bytes, 0);
            }
        }
        catch (Exception failure) when (VembarException.From(failure, "write into", request.To) is { } error)
        {
            throw error;
        }
        return Task.FromResult(new TakeResult(files.Count, files.Sum(f => (long)f.Bytes.Length), [.. files.Select(f => f.Name)], []));
    }
}

using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;

namespace Vembar.Operations.Files;

/// <summary>Prints a file of an image.</summary>
public sealed class PrintHandler(OperationHost host) : IOperationHandler<PrintRequest, long>
{
    /// <summary>Writes one file's content to a stream.</summary>
    /// <returns>How many bytes it is long.</returns>
    /// <exception cref="VembarException">It is not there, not a file, or damaged.</exception>
    public Task<long> HandleAsync(PrintRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        Task.Run(() => Print(request, cancellation), cancellation);

    private long Print(PrintRequest request, CancellationToken cancellation)
    {
        var (reference, path, to) = request;
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        var tree = new ImageTree(archive, image.Root, $"{reference.Archive}#{image.Number}");
        var at = WindowsPath.Parse(path);
        if (FileSearch.Locate(tree, at) is not { Content: { } content })
            throw VembarException.Input("not-a-file", $"'{at}' is not a file, so it cannot be printed",
                Advice.Of("not-a-file"));
        var zeros = new byte[1 << 16];
        var end = 0L;
        void Fill(long until)
        {
            for (; end < until; end += Math.Min(until - end, zeros.Length))
                to.Write(zeros.AsSpan(0, (int)Math.Min(until - end, zeros.Length)));
        }
        tree.Pieces(content, () => at, (bytes, offset) =>
        {
            cancellation.ThrowIfCancellationRequested();
            Fill(offset);
            to.Write(bytes);
            end = offset + bytes.Length;
        });
        Fill(content.Length);
        return content.Length;
    }
}

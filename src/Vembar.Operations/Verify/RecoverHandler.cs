using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Verify;

/// <summary>
/// Makes a new archive of what can be read of a damaged one. It begins with the last state that can be read, and with what is whole of a
/// newer one behind it; without any state it looks for blocks from the first byte to the last, and needs no index and no commit.
/// </summary>
public sealed class RecoverHandler(OperationHost host) : IOperationHandler<RecoverRequest, RecoverResult>
{
    /// <summary>Recovers.</summary>
    /// <exception cref="VembarException">Nothing can be recovered, or the new archive not be written.</exception>
    public async Task<RecoverResult> HandleAsync(RecoverRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (place, to) = request;
        var path = place.Path;
        if (Path.Exists(to))
            throw VembarException.Input("target-exists", $"'{to}' is there already", "Name a file that is not there.");
        Checks.CanAddTo(host, to, null, null);
        IByteSource file;
        try
        {
            file = new WholeReading(host.Files).OpenRead(path);
        }
        catch (Exception failure) when (VembarException.From(failure, "open the archive", path) is { } error)
        {
            throw error;
        }
        using (file)
        using (var bases = Bases(place, file, host.Files))
        using (var archive = LastState(place, new WholeReading(host.Files)))
        {
            var scan = new RecoveryScan(file, path, bases, archive);
            scan.Run(progress, cancellation);
            var (records, lost) = scan.Images();
            if (records.Count == 0)
            {
                var behind = archive is null ? "" : $" behind state {archive.Sequence}, which can be read";
                throw VembarException.Damaged($"'{path}': {scan.Blocks} sound blocks were "
                    + $"found{behind}, but no image's record "
                    + $"among them",
                    "Take it from another copy.");
            }
            using var writer = await ArchiveWriter.OpenAsync(to, host.WriterOptions(default) with { MayCreate = true }, cancellation)
                .ConfigureAwait(false);
            var saved = new List<ImageRecord>();
            var recovery = new ImageRecovery(scan, writer, lost, record => progress.Report(new OperationProgress("saving images",
                scan.BytesTaken, file.Length, true, record.Name)), cancellation);
            foreach (var record in records)
            {
                if (recovery.Save(record) is { } whole)
                    saved.Add(whole);
            }
            if (saved.Count == 0)
                throw VembarException.Damaged($"'{path}': no image's root folder can be read any more", "Take it from another copy.");
            writer.CommitRecovered(saved, $"recovered from {Path.GetFileName(path)}");
            return new RecoverResult(to, saved, scan.Blocks, lost);
        }
    }

    private static ArchiveReader? LastState(ArchiveLocation place, IFileSystem files)
    {
        try
        {
            return ArchiveReader.OpenToMend(place, files);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged || problem.Code is "not-an-archive" or "newer-format")
        {
            // The header may be what is damaged.
            return null;
        }
    }

    // The header may be what is damaged; then nothing is known of bases.
    private static BaseArchives? Bases(ArchiveLocation place, IByteSource file, IFileSystem files)
    {
        try
        {
            var header = ArchiveHeader.Read(file, place.Path);
            return header.Bases.Count == 0 ? null : new BaseArchives(place, header, files, 0);
        }
        catch (VembarException)
        {
            return null;
        }
    }
}

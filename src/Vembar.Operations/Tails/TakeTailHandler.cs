using Vembar.Common;
using Vembar.Native;
using Vembar.Operations.Verify;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Tails;

/// <summary>Adds a tail to the archive that it was made for, if the archive is still as it was then. It is looked at first: its blocks,
/// their content, the images that it brings.</summary>
public sealed class TakeTailHandler(OperationHost host) : IOperationHandler<TakeTailRequest, string>
{
    /// <summary>Adds it.</summary>
    /// <returns>The state that the archive has then.</returns>
    /// <exception cref="VembarException">The archive has changed meanwhile ("place-changed"), what was sent is damaged ("tail-lost") or no
    /// tail of this archive ("bad-tail"), or it cannot be written; the archive is as it was.</exception>
    public async Task<string> HandleAsync(TakeTailRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        try
        {
            using var tail = host.Files.OpenRead(request.Tail);
            return !Posix.Exists(request.Archive) ? await MakeAsync(request, tail, cancellation).ConfigureAwait(false)
                : request.Replaces ? await ReplaceAsync(request, tail, cancellation).ConfigureAwait(false)
                : await AppendAsync(request, tail, cancellation).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "write the archive", request.Archive) is { } error)
        {
            throw error;
        }
    }

    private static VembarException Moved(string archive) => VembarException.Environment("place-changed",
        $"'{archive}' was changed by somebody else meanwhile; their change stands, yours was not made", "Run it again.");

    private async Task CheckAsync(ArchiveReader with, ArchiveReader? before, CancellationToken cancellation)
    {
        if (await ArchiveCheck.AddedAsync(with, before, host.Workers, cancellation).ConfigureAwait(false) is [var first, ..] damage)
            throw VembarException.Input("tail-lost", $"what was sent did not come whole: {first.Problem}", "Send it again.",
                [.. damage.Skip(1).Take(20).Select(d => d.Problem)]);
    }

    private async Task<IArchiveFile> LockAsync(string path, TimeSpan wait, CancellationToken cancellation)
    {
        var pause = TimeSpan.FromMilliseconds(100);
        var began = host.Clock.GetTimestamp();
        while (true)
        {
            var file = host.Files.OpenWrite(path);
            if (file.TryLock() && file.IsStillAt(path))
                return file;
            file.Dispose();
            if (host.Clock.GetElapsedTime(began) >= wait)
                throw VembarException.Environment("archive-locked", $"'{path}' is being written by another process", "Try again later.");
            await Task.Delay(pause, host.Clock, cancellation).ConfigureAwait(false);
        }
    }

    private async Task<string> AppendAsync(TakeTailRequest request, IByteSource tail, CancellationToken cancellation)
    {
        using var file = await LockAsync(request.Archive, request.Wait, cancellation).ConfigureAwait(false);
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        if (archive.IsNewerStateDamaged)
            throw VembarException.Damaged($"'{request.Archive}' holds a newer state that is damaged; a change would lose it",
                "Heal it first.");
        if (archive.StateTag != request.After)
            throw Moved(request.Archive);
        using var with = TailFile.Open(archive, tail, request.Archive);
        if (request.AddsOnly && !KeepsAll(archive, with))
            throw VembarException.Input("bad-tail", "what was sent changes images that are there, and may only add one");
        await CheckAsync(with, archive, cancellation).ConfigureAwait(false);
        cancellation.ThrowIfCancellationRequested();
        TailFile.Append(file, archive.CommittedLength, tail, with);
        return with.StateTag;
    }

    private static bool KeepsAll(ArchiveReader before, ArchiveReader with)
    {
        var images = with.Catalogue.Images.ToDictionary(i => i.Number, i => i.Record);
        var channels = (with.Catalogue.Channels ?? []).ToHashSet();
        return before.Catalogue.Images.All(i => images.TryGetValue(i.Number, out var record) && record == i.Record)
            && (before.Catalogue.Channels ?? []).All(channels.Contains) && channels.Count == (before.Catalogue.Channels?.Count ?? 0)
            && with.Catalogue.NextNumber >= before.Catalogue.NextNumber;
    }

    private async Task<string> MakeAsync(TakeTailRequest request, IByteSource tail, CancellationToken cancellation)
    {
        if (request.After.Length > 0)
            throw Moved(request.Archive);
        using var with = TailFile.Open(null, tail, request.Archive);
        await CheckAsync(with, null, cancellation).ConfigureAwait(false);
        Place(request, tail, replace: false);
        return with.StateTag;
    }

    private async Task<string> ReplaceAsync(TakeTailRequest request, IByteSource tail, CancellationToken cancellation)
    {
        using var file = await LockAsync(request.Archive, request.Wait, cancellation).ConfigureAwait(false);
        using var archive = ArchiveReader.Open(request.Archive, host.Files);
        if (archive.StateTag != request.After)
            throw Moved(request.Archive);
        if (request.AddsOnly)
            throw VembarException.Input("bad-tail", "what was sent takes the archive's place, and may only add to it");
        using var with = TailFile.Open(null, tail, request.Archive);
        if (with.Header.Id != archive.Header.Id)
            throw VembarException.Input("bad-tail", "what was sent is another archive, and not this one made anew");
        await CheckAsync(with, null, cancellation).ConfigureAwait(false);
        Place(request, tail, replace: true);
        return with.StateTag;
    }

    // Beside it first, so that it is there whole or not at all.
    private void Place(TakeTailRequest request, IByteSource tail, bool replace)
    {
        const int Piece = 1 << 20;
        var scratch = $"{request.Archive}.{Guid.NewGuid():N}";
        try
        {
            using (var file = host.Files.CreateNew(scratch))
            {
                var buffer = new byte[Piece];
                for (var at = 0L; at < tail.Length;)
                {
                    var count = tail.Read(buffer.AsSpan(0, (int)Math.Min(Piece, tail.Length - at)), at);
                    if (count == 0)
                        throw new IOException("what was sent is shorter than it was");
                    file.Write(buffer.AsSpan(0, count), at);
                    at += count;
                }
                file.Sync();
            }
            host.Files.Rename(scratch, request.Archive, replace);
        }
        catch
        {
            if (Posix.Exists(scratch))
                host.Files.Delete(scratch);
            throw;
        }
    }
}

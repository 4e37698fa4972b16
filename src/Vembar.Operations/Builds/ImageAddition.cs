using System.Globalization;
using Vembar.Common;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;

namespace Vembar.Operations.Builds;

/// <summary>Puts what a run made into the archive: the image, its channels, what is said of the version before it, and which versions go,
/// all
/// in one state.</summary>
internal sealed class ImageAddition(OperationHost host, Recipe recipe, TimeSpan wait)
{
    /// <summary>Adds it.</summary>
    /// <param name="work">The run's own archive.</param>
    /// <param name="number">The image there.</param>
    /// <param name="version">The version that it gets.</param>
    /// <param name="notes">Told what was done beside it.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it; the archive is as it was then.</param>
    /// <returns>The image as it is listed, and by how much the archive grew.</returns>
    /// <exception cref="VembarException">Another image has its name and version, or the archive cannot be written.</exception>
    public async Task<(ImageRecord Image, long Bytes)> AddAsync(ArchiveLocation work, int number, string version, List<string> notes,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        using var source = ArchiveReader.Open(work, host.Files);
        var made = source.Find(number.ToString(CultureInfo.InvariantCulture), host.Clock);
        using var writer = await ArchiveWriter.OpenAsync(recipe.Archive, host.WriterOptions(wait) with
        {
            MayCreate = true,
            Effort = recipe.Effort,
        }, cancellation).ConfigureAwait(false);
        // An earlier run may have come that far.
        if (Find(writer.Base, recipe.ImageName, version) is { } there && there.Root == made.Root)
            return (there, 0);
        Checks.TitleIsFree(writer.Base, recipe.ImageName, version);
        var tree = new ImageTree(source, made.Root, $"{work.Path}#{number}");
        var needed = new NeededChunks(source, writer);
        needed.Want(tree, made.Root);
        await needed.CopyAsync(recompress: false, progress, cancellation).ConfigureAwait(false);
        var versions = ImageCatalogue.Of(writer.Base).VersionsOf(recipe.ImageName);
        var (changed, dropped) = Others(versions, notes);
        var record = made with
        {
            Name = recipe.ImageName,
            Version = version,
            Note = recipe.Note.Length > 0 ? recipe.Note : made.Note,
            Edition = recipe.Edition ?? made.Edition,
            Channels = recipe.Channels.Count > 0 ? recipe.Channels : null,
            History = [.. made.History, new HistoryEntry
            {
                Time = host.Now,
                Action = "build",
                Details = [$"by {Path.GetFileName(recipe.Path)}", .. notes],
            }],
        };
        var stored = writer.CommitImage(record, null, Checks.Change("build", writer.Base.Catalogue.NextNumber, record)
            + string.Concat(notes.Select(n => $"; {n}")), changed, dropped);
        return (stored, writer.BytesStored);
    }

    /// <summary>The image of a name and version; null for none.</summary>
    public static ImageRecord? Find(ArchiveReader archive, string name, string version) => ImageCatalogue.Of(archive).VersionsOf(name)
        .FirstOrDefault(v => v.Version.Equals(version, StringComparison.OrdinalIgnoreCase));

    private (List<ImageRecord> Changed, List<int> Dropped) Others(IReadOnlyList<ImageRecord> versions, List<string> notes)
    {
        var changed = new List<ImageRecord>();
        var dropped = new List<int>();
        foreach (var channel in recipe.Channels)
            notes.Add(versions.FirstOrDefault(v => IsIn(v, channel)) is { } before
                ? $"channel {channel}, before at {before.Version} ({before.Number})" : $"channel {channel}");
        if (recipe.Keep is { } keep)
        {
            // The new one counts; what a channel points at after this stays, and what is locked.
            foreach (var old in versions.Take(Math.Max(0, versions.Count + 1 - keep)))
            {
                var channels = (old.Channels ?? []).Where(c => !recipe.Channels.Contains(c, StringComparer.OrdinalIgnoreCase)).ToList();
                if (old.Locked || channels.Count > 0)
                    notes.Add($"{old.Version} ({old.Number}) stays: it is {(old.Locked ? "locked" : $"in channel {channels[0]}")}");
                else
                {
                    dropped.Add(old.Number);
                    notes.Add($"{old.Version} ({old.Number}) dropped");
                }
            }
        }
        if (recipe.RetireBefore is { } days && versions is [.., var last] && !dropped.Contains(last.Number))
        {
            var day = host.Today.AddDays(days);
            if (last.Retires is null || last.Retires > day)
            {
                changed.Add(last with { Retires = day });
                notes.Add(string.Create(CultureInfo.InvariantCulture, $"{last.Version} ({last.Number}) retires on {day:yyyy-MM-dd}"));
            }
        }
        return (changed, dropped);
    }

    private static bool IsIn(ImageRecord image, string channel) =>
        (image.Channels ?? []).Contains(channel, StringComparer.OrdinalIgnoreCase);
}

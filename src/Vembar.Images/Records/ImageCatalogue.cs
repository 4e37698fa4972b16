using System.Globalization;
using Vembar.Common;
using Vembar.Store.Format;
using Vembar.Store.Reading;

namespace Vembar.Images.Records;

/// <summary>The images that a state of an archive lists.</summary>
public sealed class ImageCatalogue
{
    private readonly ArchiveReader _archive;

    private ImageCatalogue(ArchiveReader archive)
    {
        _archive = archive;
        var images = new List<ImageRecord>();
        var lost = new List<LostImage>();
        foreach (var entry in archive.Catalogue.Images)
        {
            try
            {
                images.Add(Read(archive, entry) with { Number = entry.Number });
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Damaged)
            {
                lost.Add(new LostImage(entry.Number, problem.Message));
            }
        }
        Images = [.. images.OrderBy(i => i.Number)];
        Lost = [.. lost.OrderBy(i => i.Number)];
    }

    /// <summary>The images of an archive's state; they are read when they are first asked for.</summary>
    /// <exception cref="VembarException">The archive cannot be read.</exception>
    public static ImageCatalogue Of(ArchiveReader archive) => archive.View(Open);

    private static ImageCatalogue Open(ArchiveReader archive)
    {
        try
        {
            return new ImageCatalogue(archive);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read the archive", archive.Path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>An image's record.</summary>
    /// <exception cref="VembarException">It is damaged in both its copies.</exception>
    internal static ImageRecord Read(ArchiveReader archive, CatalogueEntry entry) =>
        archive.ReadRecord(entry.Record, ImageRecordJson.Default.ImageRecord, $"record of image {entry.Number}");

    /// <summary>The images, by their numbers.</summary>
    public IReadOnlyList<ImageRecord> Images { get; }

    /// <summary>Images whose record is damaged in both copies; nothing else is known of them.</summary>
    public IReadOnlyList<LostImage> Lost { get; }

    /// <summary>Finds an image.</summary>
    /// <param name="which">A number, a name (compared without case), or "last"; null means the only one.</param>
    /// <exception cref="VembarException">There is none, with the names that there are and the nearest.</exception>
    public ImageRecord Find(string? which)
    {
        if (Lost.Count > 0 && (which is null || Lost.Any(l => which == l.Number.ToString(CultureInfo.InvariantCulture))
            || (which.Equals("last", StringComparison.OrdinalIgnoreCase) && (Images.Count == 0 || Lost[^1].Number > Images[^1].Number))))
        {
            throw VembarException.Damaged($"{string.Join("; ", Lost.Select(l => $"image {l.Number}: {l.Problem}"))}",
                Advice.Of("heal-image", ("path", _archive.Path)));
        }
        if (Images.Count == 0)
            throw VembarException.Input("no-such-image", $"'{_archive.Path}' holds no images",
                _archive.UncommittedTail > 0 ? Advice.Of("capture-interrupted") : Advice.Of("no-images"));
        if (which is null)
        {
            return Images.Count == 1 ? Images[0] : throw VembarException.Input(
                "which-image", $"'{_archive.Path}' holds {Images.Count} images",
                "Say which one with ARCHIVE#NUMBER, ARCHIVE#\"NAME\" or ARCHIVE#last.", Names());
        }
        if (which.Equals("last", StringComparison.OrdinalIgnoreCase)
            && !Images.Any(i => i.Name.Equals(which, StringComparison.OrdinalIgnoreCase)))
            return Images[^1];
        var found = Images.FirstOrDefault(i => i.Name.Equals(which, StringComparison.OrdinalIgnoreCase))
            ?? (int.TryParse(which, CultureInfo.InvariantCulture, out var number) ? Images.FirstOrDefault(i => i.Number == number) : null);
        if (found is not null)
            return found;
        var nearest = Images.MinBy(i => EditDistance.Distance(i.Name, which))!;
        var near = EditDistance.Distance(nearest.Name, which) <= Math.Max(2, which.Length / 3);
        throw VembarException.Input("no-such-image", $"'{_archive.Path}' holds no image '{which}'",
            near ? $"Did you mean \"{nearest.Name}\" (number {nearest.Number})?" : "Name one of those it holds.", Names());
    }

    private string[] Names() => [.. Images.Select(i => $"{i.Number}: {i.Name}")];
}

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
        var channels = (archive.Catalogue.Channels ?? []).ToLookup(c => c.Image, c => c.Channel);
        var lost = new List<LostImage>();
        foreach (var entry in archive.Catalogue.Images)
        {
            try
            {
                images.Add(Read(archive, entry) with
                {
                    Number = entry.Number,
                    Channels = channels[entry.Number].Order(StringComparer.OrdinalIgnoreCase).ToList() is { Count: > 0 } own ? own : null,
                });
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

    /// <summary>The versions of a name, oldest first; empty when there is no image of that name.</summary>
    /// <param name="name">The name; compared without case.</param>
    public IReadOnlyList<ImageRecord> VersionsOf(string name) =>
        VersionOrder.OldestFirst(Images.Where(i => i.Name.Equals(name, StringComparison.OrdinalIgnoreCase)));

    /// <summary>The names that there are.</summary>
    public IReadOnlyList<string> Names => [.. Images.Select(i => i.Name).Distinct(StringComparer.OrdinalIgnoreCase)];

    /// <summary>What stands behind '@' for the newest version that is offered.</summary>
    internal const string NewestWord = "newest";

    /// <summary>Finds an image.</summary>
    /// <param name="which">A number, a name (compared without case), or "last"; null means the only one. A name means its newest version
    /// that is neither held back nor retired; behind '@' stands a version, a channel, or "newest".</param>
    /// <param name="clock">Tells which are retired; null for the system's clock.</param>
    /// <exception cref="VembarException">There is none, with the names that there are and the nearest.</exception>
    public ImageRecord Find(string? which, TimeProvider? clock = null)
    {
        if (Lost.Count > 0 && (which is null || Lost.Any(l => which == l.Number.ToString(CultureInfo.InvariantCulture))
            || (IsLast(which) && (Images.Count == 0 || Lost[^1].Number > Images[^1].Number))))
        {
            throw VembarException.Damaged($"{string.Join("; ", Lost.Select(l => $"image {l.Number}: {l.Problem}"))}",
                Advice.Of("heal-image", ("path", _archive.Path)));
        }
        if (Images.Count == 0)
            throw VembarException.Input("no-such-image", $"'{_archive.Path}' holds no images",
                _archive.UncommittedTail > 0 ? Advice.Of("capture-interrupted") : Advice.Of("no-images"));
        if (which is null)
        {
            if (_archive.IsNewerStateDamaged)
                throw StateUnknown("the only one");
            return Images.Count == 1 ? Images[0] : throw VembarException.Input(
                "which-image", $"'{_archive.Path}' holds {Images.Count} images",
                "Say which one with ARCHIVE#NUMBER, ARCHIVE#\"NAME\" or ARCHIVE#last.", Listed(Images));
        }
        if (_archive.IsNewerStateDamaged && !IsNumber(which))
            throw StateUnknown(which);
        var today = DateOnly.FromDateTime((clock ?? TimeProvider.System).GetLocalNow().DateTime);
        if (VersionsOf(which) is { Count: > 0 } versions)
            return Newest(versions, today);
        if (IsLast(which))
            return Images[^1];
        if (int.TryParse(which, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            && Images.FirstOrDefault(i => i.Number == number) is { } numbered)
            return numbered;
        // A name may hold the mark too.
        for (var at = which.LastIndexOf('@'); at >= 0; at = at == 0 ? -1 : which.LastIndexOf('@', at - 1))
        {
            if (VersionsOf(at == 0 && Names is [var only] ? only : which[..at]) is { Count: > 0 } found)
                return Choose(found, which[(at + 1)..], today);
        }
        var name = which.LastIndexOf('@') is > 0 and var mark ? which[..mark] : which;
        var nearest = Images.MinBy(i => EditDistance.Distance(i.Name, name))!;
        var near = EditDistance.Distance(nearest.Name, name) <= Math.Max(2, name.Length / 3);
        throw VembarException.Input("no-such-image", $"'{_archive.Path}' holds no image '{which}'",
            near ? $"Did you mean \"{nearest.Name}\" (number {nearest.Number})?" : "Name one of those it holds.", Listed(Images));
    }

    // A number means the same image in each state; what has a name, a channel or the last place may have changed.
    private static bool IsNumber(string which) => which.All(char.IsAsciiDigit);

    private VembarException StateUnknown(string which) => new(ErrorKind.Damaged, "newer-state-damaged",
        $"'{_archive.Path}' holds a newer state behind state {_archive.Sequence} that is damaged, and may hold another image '{which}'",
        Advice.Of("newer-state-unknown", ("path", _archive.Path), ("state", _archive.Sequence.ToString(CultureInfo.InvariantCulture))));

    private static bool IsLast(string which) => which.Equals("last", StringComparison.OrdinalIgnoreCase);

    private ImageRecord Newest(IReadOnlyList<ImageRecord> versions, DateOnly today) =>
        versions.LastOrDefault(v => v.IsOffered(today)) ?? throw VembarException.Input("no-version-offered",
            versions.Count == 1 ? $"{versions[0].Title} of '{_archive.Path}' is {WhyNot(versions[0], today)}"
                : $"all {versions.Count} versions of \"{versions[0].Name}\" in '{_archive.Path}' are held back or retired",
            "Say which one is meant, by its number or with NAME@VERSION.", Listed(versions, today));

    private static string WhyNot(ImageRecord image, DateOnly today) => image.IsRetired(today) ? "retired" : "held back";

    private ImageRecord Choose(IReadOnlyList<ImageRecord> versions, string word, DateOnly today)
    {
        bool Is(string text) => text.Equals(word, StringComparison.OrdinalIgnoreCase);
        if (versions.FirstOrDefault(v => v.Version.Length > 0 && Is(v.Version)) is { } version)
            return version;
        if (versions.FirstOrDefault(v => (v.Channels ?? []).Any(Is)) is { } channel)
            return channel;
        if (Is(NewestWord))
            return Newest(versions, today);
        var known = versions.Select(v => v.Version).Concat(versions.SelectMany(v => v.Channels ?? [])).Where(k => k.Length > 0);
        throw VembarException.Input("no-such-version", $"'{_archive.Path}' has no version or channel '{word}' of \"{versions[0].Name}\"",
            EditDistance.Nearest(word, known) is { } near ? $"Did you mean \"{versions[0].Name}@{near}\"?"
                : "Name one of those that it has, or leave the version out for the newest.", Listed(versions, today));
    }

    private static string[] Listed(IEnumerable<ImageRecord> images) => [.. images.Select(Listed)];

    private static string[] Listed(IEnumerable<ImageRecord> versions, DateOnly today) => [.. versions.Reverse().Select(v =>
        string.Join(", ",
        ((string[])[Listed(v), .. v.Channels ?? [], v.IsOffered(today) ? "" : WhyNot(v, today)]).Where(t => t.Length > 0)))];

    private static string Listed(ImageRecord image) =>
        image.Version.Length > 0 ? $"{image.Number}: {image.Name} {image.Version}" : $"{image.Number}: {image.Name}";
}

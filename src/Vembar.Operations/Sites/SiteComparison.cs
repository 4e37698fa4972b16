using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Records;
using Vembar.Operations.Project;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations.Sites;

/// <summary>Compares a site with the archive that it keeps copies of.</summary>
internal sealed class SiteComparison
{
    private SiteComparison(IReadOnlyList<(ImageRecord Wanted, ImageRecord? There)> pairs, IReadOnlyList<ImageRecord> extra,
        IReadOnlyList<LostImage> lost)
    {
        Pairs = pairs;
        Extra = extra;
        Lost = lost;
    }

    /// <summary>What should be there, with what is there of that name and version.</summary>
    public IReadOnlyList<(ImageRecord Wanted, ImageRecord? There)> Pairs { get; }

    /// <summary>What is there and need not be.</summary>
    public IReadOnlyList<ImageRecord> Extra { get; }

    /// <summary>Images there whose record is damaged.</summary>
    public IReadOnlyList<LostImage> Lost { get; }

    /// <summary>Compares.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="site">The site.</param>
    /// <param name="files">Where both are.</param>
    /// <param name="today">The day, for what is offered.</param>
    /// <exception cref="VembarException">The site's archive cannot be read.</exception>
    public static SiteComparison Of(ArchiveReader archive, Site site, IFileSystem files, DateOnly today)
    {
        var wanted = Wanted(archive, site, today);
        if (!files.Exists(site.Place))
        {
            if (!PlaceAddress.IsRemote(site.Place) && !Directory.Exists(Path.GetDirectoryName(site.Place)))
                throw VembarException.Environment("place-unreachable", $"there is no folder for the site '{site.Name}' at '{site.Place}'",
                    "Is it mounted?");
            return new SiteComparison([.. wanted.Select(w => (w, (ImageRecord?)null))], [], []);
        }
        using var there = ArchiveReader.Open(site.Place, files);
        Checks.DemandNewest(there);
        if (there.Header.Id == archive.Header.Id)
            throw VembarException.Input("same-archive", $"the site '{site.Name}' is the archive itself, or a copy of its file",
                "Give the site an archive of its own; images are copied into it.");
        var images = there.Images;
        var pairs = wanted.Select(w => (w, images.FirstOrDefault(i => IsSame(i, w)))).ToList();
        return new SiteComparison(pairs, [.. images.Where(i => !wanted.Any(w => IsSame(i, w)))], there.LostImages);
    }

    private static bool IsSame(ImageRecord a, ImageRecord b) => a.Name.Equals(b.Name, StringComparison.OrdinalIgnoreCase)
        && a.Version.Equals(b.Version, StringComparison.OrdinalIgnoreCase);

    private static List<ImageRecord> Wanted(ArchiveReader archive, Site site, DateOnly today)
    {
        var catalogue = ImageCatalogue.Of(archive);
        var wanted = new List<ImageRecord>();
        foreach (var name in catalogue.Names.Where(n => site.Names.Count == 0 || site.Names.Any(p => Wildcard.Matches(p, n))))
        {
            var versions = catalogue.VersionsOf(name);
            wanted.AddRange(versions.Where(v => (v.Channels ?? []).Intersect(site.Channels, StringComparer.OrdinalIgnoreCase).Any())
                .Union(versions.Where(v => v.IsOffered(today)).TakeLast(site.Newest)));
        }
        return [.. wanted.OrderBy(w => w.Number)];
    }

    /// <summary>What a copy's marks should be: those of the image, and a lock that the site put on stays.</summary>
    public static ImageRecord Marked(ImageRecord there, ImageRecord wanted) => there with
    {
        Locked = there.Locked || wanted.Locked,
        Held = wanted.Held,
        Retires = wanted.Retires,
        Channels = wanted.Channels,
    };

    /// <summary>Whether a copy has the marks and channels that it should have.</summary>
    public static bool IsMarked(ImageRecord there, ImageRecord wanted)
    {
        var marked = Marked(there, wanted);
        return (there.Locked, there.Held, there.Retires) == (marked.Locked, marked.Held, marked.Retires)
            && (there.Channels ?? []).ToHashSet(StringComparer.OrdinalIgnoreCase).SetEquals(wanted.Channels ?? []);
    }

    /// <summary>The same, name by name.</summary>
    public IReadOnlyList<SiteImages> Rows()
    {
        var names = Pairs.Select(p => p.Wanted.Name).Concat(Extra.Select(e => e.Name)).Distinct(StringComparer.OrdinalIgnoreCase);
        var rows = names.Select(name =>
        {
            bool Is(ImageRecord image) => image.Name.Equals(name, StringComparison.OrdinalIgnoreCase);
            var own = Pairs.Where(p => Is(p.Wanted)).ToList();
            List<string> Versions(Func<(ImageRecord Wanted, ImageRecord? There), bool> which) =>
                [.. own.Where(which).Select(p => p.Wanted.Version)];
            return new SiteImages(name, Versions(p => p.There?.Root == p.Wanted.Root), Versions(p => p.There is null),
                [.. Extra.Where(Is).Select(e => e.Version)], Versions(p => p.There is not null && p.There.Root != p.Wanted.Root), [],
                Versions(p => p.There is not null && !IsMarked(p.There, p.Wanted)));
        }).ToList();
        if (Lost.Count > 0)
            rows.Add(new SiteImages("", [], [], [], [], [.. Lost.Select(l => $"image {l.Number}: {l.Problem}")], []));
        return rows;
    }
}

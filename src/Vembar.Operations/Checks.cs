using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Windows.Install;

namespace Vembar.Operations;

/// <summary>What several operations check the same way.</summary>
internal static class Checks
{
    public static string ProgramVersion { get; } = typeof(Checks).Assembly.GetName().Version is { } v ? $"{v.Major}.{v.Minor}.{v.Build}"
        : "";

    /// <summary>Runs a check and keeps its error for later, so that all problems can be told together.</summary>
    public static T? Collect<T>(List<VembarException> problems, Func<T> check) where T : class
    {
        try
        {
            return check();
        }
        catch (VembarException problem)
        {
            problems.Add(problem);
            return null;
        }
    }

    public static void Throw(List<VembarException> problems)
    {
        if (problems.Count > 0)
            throw VembarException.Aggregate(problems);
    }

    /// <exception cref="VembarException">No image may have this name.</exception>
    public static void ImageName(string name)
    {
        if (string.IsNullOrWhiteSpace(name))
            throw new VembarException(ErrorKind.Usage, "bad-name", "an image needs a name", Advice.Of("bad-name"));
        if (name.Any(char.IsControl))
            throw new VembarException(ErrorKind.Usage, "bad-name", "the name holds control characters", "Give a plain name.");
        if (name.All(char.IsAsciiDigit) || name.Equals("last", StringComparison.OrdinalIgnoreCase))
            throw new VembarException(ErrorKind.Usage, "bad-name",
                $"'{name}' cannot be a name: it would be taken for a number or for the last image", "Give a name with letters.");
        if (name.Contains('@'))
            throw new VembarException(ErrorKind.Usage, "bad-name",
                $"'{name}' cannot be a name: what stands behind '@' is a version or a channel", Advice.Of("version-apart"));
    }

    /// <summary>A version or a channel that somebody gave.</summary>
    /// <exception cref="VembarException">Nothing may be called so.</exception>
    public static void VersionText(string version)
    {
        const int Longest = 100;
        var wrong = version.Length > Longest ? $"the version has {version.Length} characters, which is more than {Longest}"
            : version.Any(char.IsControl) ? "the version holds control characters"
            : version.AsSpan().ContainsAny('@', '#') ? $"the version '{version}' holds '@' or '#', which stand before a version and a name"
            : version != version.Trim() ? $"the version '{version}' begins or ends with a space"
            : version.Equals(ImageCatalogue.NewestWord, StringComparison.OrdinalIgnoreCase)
            ? $"'{version}' cannot be a version: it means the newest one"
            : null;
        if (wrong is not null)
            throw new VembarException(ErrorKind.Usage, "bad-version", wrong, "Give one like 2026.10.");
    }

    /// <summary>What an image that is added will be: no other has its name and version.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="name">The name.</param>
    /// <param name="version">The version; empty for none.</param>
    /// <param name="exceptNumber">The image that it takes the place of.</param>
    /// <exception cref="VembarException">Another image has them, or a channel of the name is called so.</exception>
    public static void TitleIsFree(ArchiveReader archive, string name, string version, int? exceptNumber = null)
    {
        var versions = ImageCatalogue.Of(archive).VersionsOf(name);
        if (versions.FirstOrDefault(i => i.Version.Equals(version, StringComparison.OrdinalIgnoreCase)
            && i.Number != exceptNumber) is { } taken)
        {
            throw VembarException.Input("name-taken", $"'{archive.Path}' already holds an image {taken.Title} (number {taken.Number})",
                "Choose another name or version; it holds: "
                + string.Join(", ", archive.Images.Select(i => $"{i.Number} {i.Title}")) + ".");
        }
        if (version.Length > 0
            && versions.FirstOrDefault(i => (i.Channels ?? []).Contains(version, StringComparer.OrdinalIgnoreCase)) is { } named)
        {
            throw VembarException.Input("name-taken",
                $"'{version}' cannot be a version of \"{named.Name}\": it is a channel of it, which points at number {named.Number}",
                "Choose another version.");
        }
    }

    /// <summary>The version of an image that is added: the one that was given, or the next of its name, or none.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="name">The name.</param>
    /// <param name="given">What was given; null or empty for nothing.</param>
    /// <param name="host">Has the pattern of versions.</param>
    /// <param name="notes">Told of a version that was made.</param>
    /// <exception cref="VembarException">It is taken.</exception>
    public static string VersionFor(ArchiveReader archive, string name, string? given, OperationHost host, List<string> notes)
    {
        if (!string.IsNullOrEmpty(given))
        {
            TitleIsFree(archive, name, given);
            return given;
        }
        var versions = ImageCatalogue.Of(archive).VersionsOf(name);
        if (versions.Count == 0)
            return "";
        var next = NextVersion(versions, host);
        var note = $"there is an image \"{versions[0].Name}\" already, so this one is its next version, {next}";
        var made = versions[^1] with { Number = int.MaxValue, Version = next, Created = host.Now };
        if (VersionOrder.OldestFirst([.. versions, made])[^1] != made)
            note += $"; {versions[^1].Version} stays the newest";
        notes.Add(note);
        return next;
    }

    private static string NextVersion(IReadOnlyList<ImageRecord> versions, OperationHost host) => host.Versions.Next(host.Today,
        versions.Select(v => v.Version).Concat(versions.SelectMany(v => v.Channels ?? [])));

    /// <summary>Demands that a deployment to a disk came to its end.</summary>
    /// <exception cref="VembarException">It did not.</exception>
    public static void DemandFinished(ResolvedSource source, string path, DiskReading reading)
    {
        if (source.IsUnfinished && !reading.AcceptDamaged)
            throw VembarException.Input("disk-unfinished",
                $"'{path}' is being written, or a deployment to it was broken off: what is on it "
                + "is not whole", "Deploy to it again.");
    }

    /// <summary>Demands that no newer state of an archive is damaged: what follows takes what it holds for the newest.</summary>
    /// <exception cref="VembarException">One is.</exception>
    public static void DemandNewest(ArchiveReader archive)
    {
        if (archive.IsNewerStateDamaged)
            throw new VembarException(ErrorKind.Damaged, "newer-state-damaged",
                $"'{archive.Path}' holds a newer state behind state {archive.Sequence} that is damaged",
                Advice.Of("newer-state-damaged"));
    }

    /// <summary>The next version of a name in an archive, also where the archive or the name is new.</summary>
    /// <exception cref="VembarException">The archive cannot be read.</exception>
    public static string NextVersion(ArchiveLocation place, string name, OperationHost host)
    {
        if (!host.Files.Exists(place.Path))
            return NextVersion([], host);
        using var archive = ArchiveReader.Open(place, host.Files);
        return NextVersion(ImageCatalogue.Of(archive).VersionsOf(name), host);
    }

    /// <summary>How an archive is named as a base, by those that are based on it.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public static BaseArchive AsBase(ArchiveLocation place, OperationHost host)
    {
        using var archive = ArchiveReader.Open(place, host.Files);
        // Of an archive on a web server, the file's name.
        return new BaseArchive(archive.Header.Id, Path.GetFileName(PlaceAddress.IsWeb(place.Path)
            ? Uri.UnescapeDataString(new Uri(place.Path).AbsolutePath) : place.Path));
    }

    /// <summary>An image that will be replaced.</summary>
    /// <param name="archive">The archive.</param>
    /// <param name="image">The image.</param>
    /// <param name="version">The version that it gets; null to leave it.</param>
    /// <exception cref="VembarException">It is locked, or another has the version.</exception>
    public static void MayReplace(ArchiveReader archive, ImageRecord image, string? version)
    {
        if (image.Locked)
            throw VembarException.Input("image-locked", $"image {image.Number} {image.Title} of '{archive.Path}' is locked",
                Advice.Of("image-locked", ("image", $"{archive.Path}#{image.Number}")));
        if (version is not null)
            TitleIsFree(archive, image.Name, version, image.Number);
    }

    /// <summary>What an archive's history says of an image that is added or changed ("capture 3 Reading room 2026.10").</summary>
    /// <param name="what">What is done.</param>
    /// <param name="number">The image's number.</param>
    /// <param name="image">The image.</param>
    public static string Change(string what, int number, ImageRecord image) =>
        image.Version.Length > 0 ? $"{what} {number} {image.Name} {image.Version}" : $"{what} {number} {image.Name}";

    /// <summary>An archive that will be added to: it opens and may be written, or its folder is there and may be.</summary>
    /// <exception cref="VembarException">Neither.</exception>
    public static void CanAddTo(OperationHost host, ArchiveLocation place, string? name, string? version)
    {
        var archive = place.Path;
        if (place.IsRemote)
        {
            host.EnsureWritable(archive);
            if (!string.IsNullOrEmpty(version) && name is not null && host.Files.Exists(archive))
            {
                using var reader = ArchiveReader.Open(place, host.Files);
                TitleIsFree(reader, name, version);
            }
            return;
        }
        if (Native.Posix.Exists(archive))
        {
            using var reader = ArchiveReader.Open(place, host.Files);
            if (name is not null && !string.IsNullOrEmpty(version))
                TitleIsFree(reader, name, version);
            try
            {
                Native.Posix.OpenFile(archive, write: true).Dispose();
            }
            catch (Exception failure) when (VembarException.From(failure, "write the archive", archive) is { } error)
            {
                throw error;
            }
            return;
        }
        var folder = Path.GetDirectoryName(Path.GetFullPath(archive));
        if (folder is null || !Native.Posix.IsFolder(folder))
            throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' for the archive '{archive}'",
                "Check the path, or make the folder.");
        if (!MayWrite(folder))
            throw VembarException.Environment("no-permission",
                $"the folder '{folder}' cannot be written, so the archive '{archive}' cannot be made",
                "Choose another place, or run as a user who may write there.");
    }

    public static bool MayWrite(string folder)
    {
        var probe = Path.Combine(folder, $".vembar-{Guid.NewGuid():N}");
        try
        {
            Native.Posix.OpenFile(probe, write: true, createNew: true).Dispose();
            Native.Posix.Remove(null, Native.PosixName.Encode(probe), folder: false);
            return true;
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }
}

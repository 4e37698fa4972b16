using System.Collections.Concurrent;
using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Stations;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Hosting;
using Vembar.Station.Problems;
using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Station.Archives;

/// <summary>The archives of a station, looked into.</summary>
public sealed class StationArchives(OperationHost host, StationSettings settings)
{
    private const int MostKept = 1000;
    private readonly ConcurrentDictionary<string, FitResult> _fits = new();

    /// <summary>What the station serves.</summary>
    public IReadOnlyList<ServedArchive> All => [.. settings.Options.Archives.Select(a => new ServedArchive(a.Name, a.Place))];

    /// <summary>The archive of a name.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public ServedArchive Named(string name) => All.FirstOrDefault(a => a.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
        ?? throw StationException.NotFound("no-such-archive", $"the station has no archive '{name}'",
            All.Count > 0 ? $"It has {string.Join(", ", All.Select(a => a.Name))}." : "Name some in station.yaml.");

    /// <summary>What lies at an address: an archive of installs, or a machine's user files, which are nothing to deploy or to capture
    /// into.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public ServedArchive At(string name) => UserFilesNamed(name) ?? Named(name);

    /// <summary>What lies at an address, to be added to.</summary>
    /// <exception cref="StationException">There is none, or it lies elsewhere.</exception>
    public ServedArchive WritableAt(string name) => UserFilesNamed(name) ?? Writable(name);

    private const string Prefix = StationOptions.UserFilesPrefix;

    /// <summary>The archive of a machine's user files, which is the machine's alone.</summary>
    /// <param name="machine">The machine's id.</param>
    public ServedArchive UserFilesOf(string machine) => new(Prefix + machine, Path.Combine(
        settings.Options.UserFilesFolder ?? Path.Combine(settings.Options.Data, "kept"), $"{machine}.vmb"))
    {
        UserFilesOf = machine,
    };

    private ServedArchive? UserFilesNamed(string name)
    {
        // Only what an id is made of, so that it names a file in the folder and none elsewhere.
        if (!name.StartsWith(Prefix, StringComparison.Ordinal) || name.Length == Prefix.Length
            || !name.AsSpan(Prefix.Length).TrimStart("0123456789abcdef").IsEmpty)
            return null;
        var archive = UserFilesOf(name[Prefix.Length..]);
        Directory.CreateDirectory(Path.GetDirectoryName(archive.Place)!,
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        return archive;
    }

    /// <summary>Makes sure that user files of a machine are here.</summary>
    /// <param name="machine">The machine's id.</param>
    /// <param name="kept">What it says of them.</param>
    /// <exception cref="StationException">They are not.</exception>
    public void DemandKept(string machine, KeptImage kept)
    {
        try
        {
            using var reader = ArchiveReader.Open(UserFilesOf(machine).Place, host.Files);
            if (reader.Find(kept.Image.ToString(CultureInfo.InvariantCulture), host.Clock).Root.ToString() == kept.Root)
                return;
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Damaged)
        {
            // Then they are not.
        }
        throw StationException.Conflict("not-kept", "the user files that the machine speaks of are not at the station");
    }

    /// <summary>An archive that images can be added to.</summary>
    /// <param name="name">Its name; null for the first.</param>
    /// <exception cref="StationException">There is none, or it lies elsewhere.</exception>
    public ServedArchive Writable(string? name)
    {
        var archive = name is null ? First() : Named(name);
        return !PlaceAddress.IsRemote(archive.Place) ? archive : throw StationException.Conflict("read-through",
            $"'{archive.Name}' is read through from '{archive.Place}', so nothing is added to it here", "Add to it where it is.");
    }

    private ServedArchive First() => All is [var first, ..] ? first
        : throw StationException.Conflict("no-archive", "the station serves no archive",
        "Name some in station.yaml, or in the project file.");

    /// <summary>The archive and the image within it that a text means: [ARCHIVE#]NAME, NAME@VERSION, NAME@CHANNEL or a number.</summary>
    /// <exception cref="StationException">There is no such archive.</exception>
    public (ServedArchive Archive, string Which) Split(string image)
    {
        var at = image.IndexOf('#');
        return at < 0 ? (First(), image.Trim('"')) : (at == 0 ? First() : Named(image[..at]), image[(at + 1)..].Trim('"'));
    }

    /// <summary>The image that a text means; see <see cref="Split"/>.</summary>
    /// <exception cref="StationException">There is none.</exception>
    public (ServedArchive Archive, ImageRecord Image) Find(string image)
    {
        var (archive, which) = Split(image);
        try
        {
            using var reader = ArchiveReader.Open(archive.Place, host.Files);
            return (archive, reader.Find(which, host.Clock));
        }
        catch (VembarException problem)
        {
            throw Elsewhere(archive, problem);
        }
    }

    // Where the archive lies at the station is nobody's concern elsewhere.
    private static StationException Elsewhere(ServedArchive archive, VembarException problem) => StationException.Conflict(problem.Code,
        problem.Message.Replace(archive.Place, archive.Name, StringComparison.Ordinal), problem.Hint, problem.Details);

    /// <summary>Looks whether a machine can get an image.</summary>
    /// <exception cref="VembarException">There is no such image, or it cannot be read.</exception>
    public async Task<FitResult> FitAsync(string image, MachineReport machine, string layout, CancellationToken cancellation)
    {
        var (archive, which) = Split(image);
        try
        {
            ImageRecord record;
            using (var reader = ArchiveReader.Open(archive.Place, host.Files))
                record = reader.Find(which, host.Clock);
            // What is looked for does not change while image, marks and machine stay the same.
            var key = string.Create(CultureInfo.InvariantCulture, $"{archive.Name} {record.Number} {record.Root} {record.Held} "
                + $"{record.Retires} {record.Signatures?.Count} {layout} {machine.Firmware} {machine.Architecture} "
                + $"{(machine.Disks is [var disk, ..] ? disk.Bytes : 0)} {DateOnly.FromDateTime(host.Clock.GetLocalNow().DateTime)} "
                + $"{settings.SignersText} ")
                + string.Join(' ', machine.Devices.Select(d => $"{(d.HardwareIds is [var id, ..] ? id : "")}{d.Needed}{d.Boot}"));
            if (_fits.TryGetValue(key, out var known))
                return known with { Image = record };
            var reference = new ImageReference(archive.Place, record.Number.ToString(CultureInfo.InvariantCulture));
            var fit = await new FitHandler(host).HandleAsync(new FitRequest(reference, machine, layout, settings.Signers), Nothing.Instance,
                cancellation).ConfigureAwait(false);
            if (_fits.Count > MostKept)
                _fits.Clear();
            return _fits[key] = fit;
        }
        catch (VembarException problem)
        {
            throw Elsewhere(archive, problem);
        }
    }

    /// <summary>A file of expectations by its name: what stands in it; null for none.</summary>
    /// <exception cref="StationException">There is none of that name.</exception>
    public string? Expectations(string name) => name.Length == 0 ? null
        : settings.Expectations.TryGetValue(name, out var text) ? text
        : throw StationException.NotFound("no-such-expectations", $"the station has no expectations '{name}'",
            settings.Expectations.Count > 0 ? $"It has {string.Join(", ", settings.Expectations.Keys)}." : "Name some in station.yaml.");

    /// <summary>Certificates (PEM) of those who may sign images; null for no demand.</summary>
    public string? SignersText() => settings.SignersText;

    /// <summary>All images of all archives; what cannot be read is left out and told.</summary>
    public (IReadOnlyList<StationImage> Images, IReadOnlyList<string> Problems) Images()
    {
        var images = new List<StationImage>();
        var problems = new List<string>();
        var today = DateOnly.FromDateTime(host.Clock.GetLocalNow().DateTime);
        foreach (var archive in All)
        {
            try
            {
                using var reader = ArchiveReader.Open(archive.Place, host.Files);
                if (reader.IsNewerStateDamaged)
                    problems.Add($"'{archive.Name}' holds a newer state behind state {reader.Sequence} that is damaged: images are given "
                        + "by their numbers alone until it is healed or given up");
                images.AddRange(ImageCatalogue.Of(reader).Images.Select(i => new StationImage(archive.Name, i.Number, i.Name, i.Version,
                    i.Edition, i.Bytes, i.Created, i.Channels ?? [], i.IsOffered(today))));
            }
            catch (VembarException problem)
            {
                problems.Add(problem.Message.Replace(archive.Place, archive.Name, StringComparison.Ordinal));
            }
        }
        return (images, problems);
    }
}

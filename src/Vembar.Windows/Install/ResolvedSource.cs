using Vembar.Common;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;

namespace Vembar.Windows.Install;

/// <summary>A source that was found at a path: a folder, or a volume of a disk.</summary>
public sealed class ResolvedSource : IDisposable
{
    private ResolvedSource(ISource source, Disk? disk, DiskVolume? volume, IReadOnlyList<string> warnings)
    {
        Source = source;
        Disk = disk;
        Volume = volume;
        Warnings = warnings;
    }

    /// <summary>What can be captured.</summary>
    public ISource Source { get; }

    /// <summary>The disk that it is on; null for a folder.</summary>
    public Disk? Disk { get; }

    /// <summary>Its volume; null for a folder.</summary>
    public DiskVolume? Volume { get; }

    /// <summary>Whether a deployment to the disk did not come to its end.</summary>
    public bool IsUnfinished => Disk?.IsUnfinished == true;

    /// <summary>What should be known of the disk.</summary>
    public IReadOnlyList<string> Warnings { get; }

    /// <summary>Opens a folder, or the volume of a disk that holds Windows.</summary>
    /// <param name="path">A folder, a disk image or a block device.</param>
    /// <param name="number">The volume's number; null finds the one that holds Windows.</param>
    /// <exception cref="VembarException">There is nothing there, nothing that can be captured, or several installs and no
    /// number.</exception>
    /// <param name="reading">How a disk is opened.</param>
    public static ResolvedSource Open(string path, int? number, DiskReading? reading = null)
    {
        if (Directory.Exists(path) || !Path.Exists(path))
        {
            if (number is not null)
                throw new VembarException(ErrorKind.Usage, "no-volumes", $"'{path}' is not a disk, so it has no volumes to choose from",
                    Advice.Of("no-volumes"));
            return new ResolvedSource(FolderSource.Open(path), null, null, []);
        }
        var disk = Disk.Open(path, reading: reading);
        try
        {
            var volume = number is { } given ? Given(disk, given) : WithWindows(disk);
            var source = OpenVolume(disk, volume);
            return new ResolvedSource(source, disk, volume, disk.Warnings);
        }
        catch
        {
            disk.Dispose();
            throw;
        }
    }

    /// <summary>Opens a volume of a disk.</summary>
    /// <exception cref="VembarException">It is not NTFS or cannot be read.</exception>
    public static NtfsSource OpenVolume(Disk disk, DiskVolume volume)
    {
        var displayName = disk.Table.Scheme == PartitionScheme.None ? $"'{disk.Path}'" : $"volume {volume.Number} of '{disk.Path}'";
        return volume.FileSystem.Kind switch
        {
            FileSystem.Ntfs => NtfsSource.Open(displayName, () => disk.OpenVolume(volume)),
            FileSystem.Encrypted =>
                throw VembarException.Input("encrypted-volume", $"{displayName} is encrypted as a whole; nothing of it can be read",
                "Turn the encryption off on the reference and let it finish (manage-bde -off), then shut it down again."),
            var kind => throw VembarException.Input("not-ntfs", $"{displayName} is not an NTFS volume ({kind})",
                Advice.Of("nothing-to-capture", ("path", disk.Path))),
        };
    }

    private static string[] Describe(Disk disk) => [.. disk.Volumes.Select(Describe)];

    private static string Describe(DiskVolume volume)
    {
        var label = volume.FileSystem.Label.Length > 0 ? $" \"{volume.FileSystem.Label}\"" : "";
        return $"volume {volume.Number}: {volume.FileSystem.Kind}{label}, {volume.Length / (1 << 20)} MiB";
    }

    private static DiskVolume Given(Disk disk, int number) => disk.Volumes.FirstOrDefault(v => v.Number == number)
        ?? throw VembarException.Input("no-such-volume", $"'{disk.Path}' has no volume {number}", Advice.Of("no-such-volume"),
        [.. disk.Table.Warnings, .. Describe(disk)]);

    private static DiskVolume WithWindows(Disk disk)
    {
        var found = new List<DiskVolume>();
        var problems = new List<string>();
        foreach (var volume in disk.Volumes.Where(v => v.FileSystem.Kind == FileSystem.Ntfs))
        {
            try
            {
                using var source = OpenVolume(disk, volume);
                if (WindowsInstall.FindFolder(source) is not null)
                    found.Add(volume);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                problems.Add(problem.Message);
            }
        }
        if (found.Count == 1)
            return found[0];
        if (found.Count > 1)
            throw VembarException.Input("which-volume",
                $"'{disk.Path}' holds Windows on {found.Count} volumes: {string.Join(", ", found.Select(v => v.Number))}",
                Advice.Of("which-volume", ("path", disk.Path)), Describe(disk));
        // A volume alone, not a disk: whoever names it means it.
        if (disk.Table.Scheme == PartitionScheme.None)
            return disk.Volumes[0];
        if (problems.Count > 0)
            throw VembarException.Input("bad-volume", $"no Windows was found on '{disk.Path}', and not all of it can be read",
                "Fix what is named, or take the disk from another copy.", problems);
        if (disk.Volumes.Any(v => v.FileSystem.Kind == FileSystem.Encrypted))
            throw VembarException.Input("encrypted-volume",
                $"no Windows was found on '{disk.Path}', and a volume of it is encrypted as a whole",
                "Turn the encryption off on the reference and let it finish (manage-bde -off), then shut it down again.", Describe(disk));
        throw VembarException.Input("no-windows", $"no Windows was found on '{disk.Path}'",
            Advice.Of("no-windows"), [.. disk.Table.Warnings, .. Describe(disk)]);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        Source.Dispose();
        Disk?.Dispose();
    }
}

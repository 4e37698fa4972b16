using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Targets;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;

namespace Vembar.Operations.Deploy;

/// <summary>What stands against deploying to a target, told before anything of it is written.</summary>
internal static class TargetChecks
{
    // So that a number without a unit is no disk of a few bytes.
    private const long SmallestDisk = 64L << 20, LargestDisk = 64L << 40;

    /// <summary>A disk or a volume of one.</summary>
    /// <exception cref="VembarException">It cannot or must not be written.</exception>
    public static void Disk(DeployRequest request, ArchiveReader? archive)
    {
        var target = request.Target;
        if (Directory.Exists(target))
            throw VembarException.Input("not-a-disk", $"the target '{target}' is a folder, not a disk",
                Advice.Of("not-a-disk"));
        if (request.Volume is not null && (request.Size is not null || request.Layout is not null || request.MayErase is not null))
            throw new VembarException(ErrorKind.Usage, "volume-or-layout",
                "a volume can be written as it is or the disk made anew, not both", Advice.Of("volume-or-layout"));
        if (request.Size is < SmallestDisk)
            throw new VembarException(ErrorKind.Usage, "bad-size",
                string.Create(CultureInfo.InvariantCulture, $"a disk of {request.Size} bytes is too small for Windows"),
                Advice.Of("bad-size"));
        if (request.Size is > LargestDisk)
            throw new VembarException(ErrorKind.Usage, "bad-size",
                $"a disk of {request.Size >> 40} TiB is larger than the {LargestDisk >> 40} TiB that are made here",
                "Give a smaller size.");
        if (!Path.Exists(target))
        {
            New(request);
            return;
        }
        if (request.Size is not null)
            throw VembarException.Input("target-exists", $"the target '{target}' is there already, and a new disk image is to be made",
                Advice.Of("new-disk-exists", ("target", target)));
        if (request.Volume is null && request.MayErase is null)
            throw VembarException.Input("target-exists", $"the target '{target}' is there already, as a file or a disk",
                Advice.Of("target-exists"));
        NoArchive(target, archive);
        if (UseOf(target) is { } use)
            throw VembarException.Environment("disk-in-use", $"the disk '{target}' is in use: {use}",
                "Unmount it first, or take it from what stands on it; and make sure that it is the disk you mean.");
        using (FileDevice.Open(target, write: true))
        {
            // It may be written.
        }
        // Opened once as it will be: a lock of a virtual machine, a parent that is missing, a format that is damaged show here.
        using var disk = DiskImage.Open(target, write: true);
    }

    /// <summary>An image and how the disk is divided: what the image starts by must be what the disk is for.</summary>
    /// <exception cref="VembarException">The disk would not start.</exception>
    public static void Fits(ArchiveReader archive, ImageRecord image, DiskLayout layout)
    {
        var tree = new ImageTree(archive, image.Root, $"{archive.Path}#{image.Number}");
        if (WindowsInstall.FindFolder(tree) is not { } folder)
            return;
        var isUefi = layout.Partitions.Any(p => p.Role == PartitionRole.Efi);
        var (uefi, bios) = (FirmwareFacts.StartsByUefi(tree, folder), FirmwareFacts.StartsByBios(tree, folder, image.Architecture));
        if (isUefi ? uefi : bios)
            return;
        var (wanted, other) = isUefi ? ("UEFI", "BIOS") : ("BIOS", "UEFI");
        var why = image.Architecture == "arm64" && !isUefi ? "it is for arm64, which has no BIOS"
            : uefi || bios ? $"it has no boot files for {wanted}, only for {other}" : "it has no boot files at all";
        throw VembarException.Input("does-not-fit",
            $"image {image.Number} {image.Title} would not start from a disk divided for {wanted}: {why}",
            uefi || bios ? Advice.Of("other-layout", ("layout", uefi ? "uefi" : "bios")) : Advice.Of("accept-misfit"));
    }

    private static void New(DeployRequest request)
    {
        var target = request.Target;
        if (request.Volume is not null || request.Size is null)
            throw VembarException.Input("no-such-disk", $"there is no disk '{target}'",
                request.Volume is not null ? Advice.Of("check-path") : Advice.Of("no-such-disk"));
        if (Path.GetExtension(target).Equals(".vmb", StringComparison.OrdinalIgnoreCase))
            throw new VembarException(ErrorKind.Usage, "named-like-an-archive",
                $"'{target}' is named like an archive, and is to be a disk",
                "Give it a name that ends in .vhdx, .vhd, .qcow2, .vmdk or .img.");
        var folder = Path.GetDirectoryName(Path.GetFullPath(target));
        if (folder is null || !Directory.Exists(folder))
            throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' to make the disk image '{target}' in",
                "Check the path, or make the folder.");
        if (!Checks.MayWrite(folder))
            throw VembarException.Environment("no-permission", $"'{folder}' cannot be written",
                "Choose another target, or run as a user who may write there.");
    }

    // The archive that is read, those that it is based on, and any other one.
    private static void NoArchive(string target, ArchiveReader? archive)
    {
        if (!Posix.TryStat(null, PosixName.Encode(target), out var stat, followLink: true))
            return;
        bool IsSame(string path) =>
            Posix.TryStat(null, PosixName.Encode(path), out var other, followLink: true) && other.Device == stat.Device
            && other.Inode == stat.Inode;
        if (archive is not null && IsSame(archive.Path))
            throw VembarException.Input("target-is-archive", $"the target '{target}' is the archive that holds the image",
                "Name the disk.");
        foreach (var based in archive?.Bases ?? [])
        {
            if (IsSame(based.Path))
                throw VembarException.Input("target-is-archive",
                    $"the target '{target}' is the archive that '{archive!.Path}' is based on", "Name the disk.");
        }
        if (ArchiveReader.IsArchive(target))
            throw VembarException.Input("target-is-archive", $"the target '{target}' is an archive, not a disk",
                "Name the disk; an archive is removed with rm.");
    }

    // What this machine itself does with a disk, a partition of it, or a file that holds one; null for nothing.
    private static string? UseOf(string path)
    {
        var real = File.ResolveLinkTarget(path, returnFinalTarget: true)?.FullName ?? Path.GetFullPath(path);
        return LoopOf(real) ?? SwapOf(real) ?? DeviceUse(real);
    }

    // loop(4): the kernel names the file behind each device.
    private static string? LoopOf(string file)
    {
        if (!Directory.Exists("/sys/block") || !Posix.TryStat(null, PosixName.Encode(file), out var own, followLink: true))
            return null;
        foreach (var backing in Directory.EnumerateDirectories("/sys/block", "loop*").Select(d => Path.Combine(d, "loop/backing_file"))
            .Where(File.Exists))
        {
            var behind = File.ReadAllText(backing).TrimEnd('\n');
            if (behind == file
                || (Posix.TryStat(null, PosixName.Encode(behind), out var stat, followLink: true) && stat.Device == own.Device
                && stat.Inode == own.Inode))
                return $"{Path.GetFileName(Path.GetDirectoryName(Path.GetDirectoryName(backing)))} is set up on it";
        }
        return null;
    }

    private static string? SwapOf(string path) =>
        File.Exists("/proc/swaps") && File.ReadLines("/proc/swaps").Any(l => l.Split(' ', '\t')[0] == path) ? "it is swap space" : null;

    private static string? DeviceUse(string real)
    {
        var about = $"/sys/class/block/{Path.GetFileName(real)}";
        if (!real.StartsWith("/dev/", StringComparison.Ordinal) || !Directory.Exists(about))
            return null;
        var devices = Directory.EnumerateDirectories(about).Where(d => File.Exists(Path.Combine(d, "partition"))).Select(Path.GetFileName)
            .Append(Path.GetFileName(real)).Select(n => $"/dev/{n}").ToHashSet();
        foreach (var line in File.ReadLines("/proc/self/mounts").Select(l => l.Split(' ')))
        {
            if (devices.Contains(line[0]))
                return $"{line[0]} is mounted at {line[1]}";
        }
        if (devices.FirstOrDefault(d => SwapOf(d) is not null) is { } swap)
            return $"{swap} is swap space";
        return devices.Select(d => $"/sys/class/block/{Path.GetFileName(d)}/holders").Where(Directory.Exists)
            .SelectMany(Directory.EnumerateFileSystemEntries).FirstOrDefault() is { } holder
            ? $"{Path.GetFileName(holder)} stands on it" : null;
    }

    /// <summary>A folder.</summary>
    /// <exception cref="VembarException">It cannot be written, or holds something that is not to be mixed with the image.</exception>
    public static void Folder(DeployRequest request)
    {
        var full = Path.GetFullPath(request.Target);
        var folder = full;
        if (File.Exists(full))
            throw VembarException.Input("not-a-folder", $"the target '{request.Target}' is a file", "Name a folder.");
        if (Directory.Exists(full))
        {
            if (!request.KeepExisting && !File.Exists(Path.Combine(full, DeployJournal.FileName))
                && Directory.EnumerateFileSystemEntries(full).Any(e => Path.GetFileName(e) != DeployJournal.UnfinishedName))
                throw VembarException.Input("target-not-empty", $"the target folder '{request.Target}' is not empty",
                    Advice.Of("target-not-empty"));
        }
        else
        {
            folder = Path.GetDirectoryName(Path.TrimEndingDirectorySeparator(full));
            if (folder is null || !Directory.Exists(folder))
                throw VembarException.Input("no-such-folder", $"there is no folder '{folder}' to make the target '{request.Target}' in",
                    "Check the path, or make the folder.");
        }
        if (!Checks.MayWrite(folder))
            throw VembarException.Environment("no-permission", $"'{folder}' cannot be written",
                "Choose another target, or run as a user who may write there.");
    }

    /// <summary>Whether a folder's file system has room for what will be written.</summary>
    /// <exception cref="VembarException">It has not.</exception>
    public static void Room(string target, long needed)
    {
        var free = Posix.FreeBytes(Path.GetFullPath(target));
        if (free < needed)
            throw VembarException.Environment("no-room",
                $"the image takes {ByteSize.Show(needed)}, '{target}' has room for {ByteSize.Show(free)}",
                Advice.Of("no-room-in-target"));
    }
}

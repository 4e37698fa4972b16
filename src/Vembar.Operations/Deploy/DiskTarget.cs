using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;
using Vembar.Volumes.Targets;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;

namespace Vembar.Operations.Deploy;

/// <summary>Divides a disk, formats its partitions, writes an image onto it and makes it one that starts.</summary>
internal sealed class DiskTarget : IDisposable
{
    private readonly DiskImage _image;
    private readonly string _temporaryFolder;
    private readonly ScratchFolder _folder;

    private readonly List<(Partition Partition, string? File)> _formatted = [];
    private PartitionTable? _table;
    private Partition? _reserved;
    private Partition? _boot;

    /// <param name="image">The disk.</param>
    /// <param name="temporaryFolder">Where partitions are prepared.</param>
    public DiskTarget(DiskImage image, string temporaryFolder)
    {
        _image = image;
        _temporaryFolder = Path.TrimEndingDirectorySeparator(temporaryFolder);
        ScratchFolder? made = null;
        InScratch(() => made = ScratchFolder.Make(_temporaryFolder));
        _folder = made!;
    }

    // What fails here is the folder for temporary files, not the disk.
    private void InScratch(Action prepare)
    {
        const long Least = 1 << 20;
        const string Doing = "prepare the disk's partitions in";
        try
        {
            prepare();
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Environment
            && new DriveInfo(_temporaryFolder).AvailableFreeSpace < Least)
        {
            // A program that formats says it in words of its own.
            throw new VembarException(ErrorKind.Environment, "no-room",
                $"could not {Doing} '{_temporaryFolder}': no room left on the device",
                "Make room there, or name another folder in TMPDIR; the disk was not changed.", problem.Details, problem);
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, Doing, _temporaryFolder) is { } problem)
        {
            throw problem;
        }
    }

    public List<WrittenVolume> Volumes { get; } = [];

    public List<string> Warnings { get; } = [];

    /// <summary>The partition that Windows goes to.</summary>
    public Partition Windows { get; private set; } = null!;

    /// <summary>Makes all that will be on the disk but the image's files, beside it; the disk is not touched.</summary>
    /// <exception cref="VembarException">The layout does not go on the disk, a program is missing, or a partition cannot be made as it
    /// should.</exception>
    public void Prepare(DiskLayout layout, TreeEditor tree, WindowsInstall? install, CancellationToken cancellation) =>
        InScratch(() => PrepareAll(layout, tree, install, cancellation));

    private void PrepareAll(DiskLayout layout, TreeEditor tree, WindowsInstall? install, CancellationToken cancellation)
    {
        var sector = _image.SectorSize;
        _table = layout.Place(_image.Length, sector);
        Windows = _table.Partitions[layout.Partitions.ToList().FindIndex(p => p.Role == PartitionRole.Windows)];
        _reserved = _table.Partitions.Zip(layout.Partitions).FirstOrDefault(p => p.Second.Role == PartitionRole.Reserved).First;
        _boot = _table.Partitions.Zip(layout.Partitions).FirstOrDefault(p => p.First != Windows
            && (p.Second.Role == PartitionRole.Efi || (layout.Scheme == PartitionScheme.Mbr && p.First.IsActive))).First;
        foreach (var (partition, planned) in _table.Partitions.Zip(layout.Partitions))
        {
            cancellation.ThrowIfCancellationRequested();
            var file = Path.Combine(_folder.Path, $"partition-{partition.Number}");
            var kind = "";
            if (planned.Role == PartitionRole.Efi)
            {
                var files = Path.Combine(_folder.Path, "efi");
                Directory.CreateDirectory(files);
                EfiFiles(files, tree, install, _table, partition, Windows);
                Formatting.Fat(file, partition.Length, partition.Start, sector, planned.Label, files);
                kind = "fat32";
            }
            else if (planned.Role != PartitionRole.Reserved)
            {
                Formatting.Ntfs(file, partition.Length, partition.Start, sector, planned.Label);
                kind = FileSystem.Ntfs;
            }
            _formatted.Add((partition, kind.Length > 0 ? file : null));
            Volumes.Add(new WrittenVolume(partition.Number, planned.Role.ToString().ToLowerInvariant(), partition.Start, partition.Length,
                kind, planned.Label));
        }
        if (layout.Scheme == PartitionScheme.Mbr)
        {
            BiosFiles(tree, install, _table, _table.Partitions.First(p => p.IsActive), Windows);
            Warnings.Add("the disk has no boot code: a BIOS starts from it only after `bootsect /nt60` on the machine (the image's files "
                + "hold none)");
        }
    }

    /// <summary>Opens the partition for Windows as it was prepared, to see whether the image goes into it.</summary>
#pragma warning disable CA2000 // the device is disposed of by its owner
    public TargetVolume OpenPrepared() => new(Open(FileDevice.Open(FileOf(Windows), write: false), write: false));
#pragma warning restore CA2000

    private static NtfsVolume Open(IBlockDevice device, bool write)
    {
        try
        {
            return NtfsVolume.Open(device, write);
        }
        catch
        {
            device.Dispose();
            throw;
        }
    }

    private string FileOf(Partition partition) => _formatted.Single(f => f.Partition == partition).File!;

    /// <summary>Divides and formats the disk: what was on it is gone from here on. A mark says that it is not finished, and no firmware
    /// finds anything to start until <see cref="FinishBoot"/>.</summary>
    /// <param name="note">What whoever began it wants to find again; empty for nothing.</param>
    /// <param name="cancellation">Ends it before anything is written.</param>
    public void Divide(string note, CancellationToken cancellation)
    {
        cancellation.ThrowIfCancellationRequested();
        using var disk = _image.OpenDevice();
        // Both ends of the disk first, where tables are; the new table at the very end.
        var zeros = new byte[DiskLayout.Alignment];
        disk.Write(zeros, 0);
        disk.Write(zeros, disk.Length - zeros.Length);
        // Without a key: it cannot be gone on with until its journal is there.
        new DiskNote("", note, 0, 0).Write(disk);
        if (_boot is { } boot)
            disk.Write(zeros.AsSpan(0, (int)Math.Min(zeros.Length, boot.Length)), boot.Start);
        foreach (var (partition, file) in _formatted.Where(f => f.File is not null && f.Partition != _boot))
        {
            cancellation.ThrowIfCancellationRequested();
#pragma warning disable CA2000 // the device is disposed of by its owner
            Formatting.CopyTo(new SliceDevice(disk, partition.Start, partition.Length), file!);
#pragma warning restore CA2000
        }
        _table!.Write(disk, default);
        disk.Flush();
    }

    /// <summary>Writes what the disk starts from: all else is on it.</summary>
    /// <param name="keepsNote">Whether whoever began it takes the mark off.</param>
    public void FinishBoot(bool keepsNote)
    {
        using var disk = _image.OpenDevice();
#pragma warning disable CA2000 // the device is disposed of by its owner
        if (_boot is { } boot)
            Formatting.CopyTo(new SliceDevice(disk, boot.Start, boot.Length), FileOf(boot));
#pragma warning restore CA2000
        disk.Flush();
        if (!keepsNote)
            DiskNote.Remove(disk);
    }

    /// <summary>Whether a disk is divided as this one would be.</summary>
    public bool IsDivided(IBlockDevice disk)
    {
        try
        {
            return PartitionTable.Read(disk).Partitions.Select(p => (p.Start, p.Length))
                .SequenceEqual(_table!.Partitions.Select(p => (p.Start, p.Length)));
        }
        catch (VembarException)
        {
            return false;
        }
    }

    // A partition that Windows keeps for itself and does not use yet; else what is left before the first one.
    private (long Start, long Length) Journal => _reserved is { } reserved ? (reserved.Start, reserved.Length)
        : (DiskNote.JournalPlace, _table!.Partitions[0].Start - DiskNote.JournalPlace);

    private IBlockDevice OpenJournal() => new SliceDevice(_image.OpenDevice(), Journal.Start, Journal.Length);

    private IBlockDevice OpenWindows() => new SliceDevice(_image.OpenDevice(), Windows.Start, Windows.Length);

    /// <summary>Brings the partition for Windows to the last checkpoint of a run that was broken off.</summary>
    /// <returns>False when that cannot be done.</returns>
    public bool TryRecover()
    {
        using var volume = OpenWindows();
        using var journal = OpenJournal();
        return CheckpointedDevice.Recover(volume, journal);
    }

    /// <summary>Opens the partition for Windows so that whatever ends the writing leaves it as at its last checkpoint.</summary>
    /// <exception cref="VembarException">It is not an NTFS volume.</exception>
    public TargetVolume OpenCheckpointed(string displayName)
    {
        try
        {
#pragma warning disable CA2000 // owned by what is returned
            return CheckpointedVolume.Open(OpenWindows, OpenJournal());
#pragma warning restore CA2000
        }
        catch (NativeException failure)
        {
            throw VembarException.From(failure, "open", displayName)!;
        }
    }

    /// <summary>Notes on the disk what is being written to it.</summary>
    /// <param name="key">What tells the deployment from others.</param>
    /// <param name="text">What whoever began it wants to find again.</param>
    public void Note(string key, string text)
    {
        using var disk = _image.OpenDevice();
        new DiskNote(key, text, Journal.Start, Journal.Length).Write(disk);
    }

    /// <summary>Opens a partition to write into it.</summary>
    /// <exception cref="VembarException">It is not a clean NTFS volume.</exception>
    public TargetVolume OpenVolume(long start, long length, string displayName)
    {
        try
        {
#pragma warning disable CA2000 // the device is disposed of by its owner
            return new TargetVolume(Open(new SliceDevice(_image.OpenDevice(), start, length), write: true));
#pragma warning restore CA2000
        }
        catch (NativeException failure)
        {
            throw failure.Errno switch
            {
                Errno.NotPermitted => InUse(displayName),
                Errno.Invalid or Errno.InputOutput =>
                    VembarException.Input("bad-volume", $"{displayName} cannot be read as NTFS: {failure.Message}",
                    "Deploy to the whole disk instead, with a layout."),
                _ => VembarException.From(failure, "open", displayName)!,
            };
        }
    }

    /// <summary>The error for a volume whose Windows may still have something to write to it.</summary>
    public static VembarException InUse(string displayName) =>
        VembarException.Input("volume-in-use", $"{displayName} is hibernated or was not closed cleanly; it is not written to",
        "Start its Windows once and shut it down fully; or let Windows check the volume (chkdsk), or choose another one.");

    public NtfsSource OpenWritten(long start, long length, string displayName) =>
        NtfsSource.Open(displayName, () => new SliceDevice(_image.OpenDevice(), start, length));

    private static byte[]? Template(TreeEditor tree, WindowsInstall install) =>
        tree.ReadFile(WindowsInstall.HivePath(install.Folder, "BCD-Template"), RegistryHive.Longest);

    private static string Locale(WindowsInstall install) => install.Languages.Count > 0 ? install.Languages[0] : "";

    private void EfiFiles(string folder, TreeEditor tree, WindowsInstall? install, PartitionTable table, Partition boot, Partition windows)
    {
        if (install is null)
        {
            Warnings.Add("the image holds no Windows, so there are no boot files to put on the EFI system partition");
            return;
        }
        var from = WindowsPath.Root.Child(install.Folder).Child("Boot");
        var boots = Path.Combine(folder, "EFI", "Microsoft", "Boot");
        if (!tree.Exists(from.Child("EFI").Child("bootmgfw.efi")))
            Warnings.Add($"the image has no '{from}/EFI/bootmgfw.efi': the disk will not start");
        Extract(tree, from.Child("EFI"), boots);
        Extract(tree, from.Child("Fonts"), Path.Combine(boots, "Fonts"));
        var manager = Path.Combine(boots, "bootmgfw.efi");
        if (File.Exists(manager))
        {
            // Firmware that has no entry for this disk looks here (UEFI specification 2.10, 3.5.1.1).
            var fallback = Path.Combine(folder, "EFI", "Boot");
            Directory.CreateDirectory(fallback);
            File.Copy(manager,
                Path.Combine(fallback,
                install.Architecture switch { "arm64" => "bootaa64.efi", "x86" => "bootia32.efi", _ => "bootx64.efi" }));
        }
        Directory.CreateDirectory(boots);
        File.WriteAllBytes(Path.Combine(boots, "BCD"),
            BootStore.Make(Template(tree, install), table, boot, windows, install.Folder, install.Product, Locale(install),
            tree.Clock.GetUtcNow().UtcDateTime));
    }

    private void BiosFiles(TreeEditor tree, WindowsInstall? install, PartitionTable table, Partition boot, Partition windows)
    {
        if (install is null)
        {
            Warnings.Add("the image holds no Windows, so there are no boot files to put on the system partition");
            return;
        }
        var from = WindowsPath.Root.Child(install.Folder).Child("Boot");
        const uint Unseen = 0x1 | 0x2 | 0x4 | 0x20;
#pragma warning disable CA2000 // the device is disposed of by its owner
        using var volume = Open(FileDevice.Open(FileOf(boot), write: true), write: true);
#pragma warning restore CA2000
        if (tree.ReadFile(from.Child("PCAT").Child("bootmgr"), RegistryHive.Longest) is { } manager)
            Put(volume, NtfsVolume.Root, "bootmgr", manager, Unseen);
        else
            Warnings.Add($"the image has no '{from}/PCAT/bootmgr': the disk will not start");
        ulong MakeFolder(ulong parent, string name)
        {
            using var at = volume.Open(parent, name);
            using var made = volume.Create(at, name, isFolder: true, 0, name);
            var number = made.Number;
            made.Close(at);
            return number;
        }
        void Copy(WindowsPath source, ulong target)
        {
            foreach (var name in tree.Names(source))
            {
                var path = source.Child(name);
                if (tree.Find(path) is { Entry.Kind: EntryKind.Folder })
                    Copy(path, MakeFolder(target, name));
                else if (!name.Equals("bootmgr", StringComparison.OrdinalIgnoreCase)
                    && tree.ReadFile(path, RegistryHive.Longest) is { } bytes)
                    Put(volume, target, name, bytes, 0);
            }
        }
        var folder = MakeFolder(NtfsVolume.Root, "Boot");
        Copy(from.Child("PCAT"), folder);
        Copy(from.Child("Fonts"), MakeFolder(folder, "Fonts"));
        Put(volume, folder, "BCD",
            BootStore.Make(Template(tree, install), table, boot, windows, install.Folder, install.Product, Locale(install),
            tree.Clock.GetUtcNow().UtcDateTime), 0);
        volume.Close();
    }

    private static void Put(NtfsVolume volume, ulong folder, string name, byte[] bytes, uint attributes)
    {
        using var parent = volume.Open(folder, name);
        using var file = volume.Create(parent, name, isFolder: false, 0, name);
        if (attributes != 0)
            file.SetAttributes(attributes);
        if (bytes.Length > 0)
        {
            using var data = file.OpenData();
            data.Write(bytes, 0);
        }
        file.Close(parent);
    }

    // Names from an image become names of Linux in a folder of ours: nothing of them may lead elsewhere.
    private static void Extract(TreeEditor tree, WindowsPath from, string to)
    {
        foreach (var name in tree.Names(from))
        {
            if (name is "." or ".." || name.AsSpan().ContainsAny('/', '\\', '\0'))
                throw VembarException.Input("bad-name", $"'{from}' holds a name that no boot file can have: '{name}'");
            var path = from.Child(name);
            var target = Path.Combine(to, name);
            if (tree.Find(path) is not { } node)
                continue;
            if (node.Entry.Kind == EntryKind.Folder)
            {
                Extract(tree, path, target);
                continue;
            }
            if (tree.ReadFile(path, RegistryHive.Longest) is not { } bytes)
                continue;
            Directory.CreateDirectory(to);
            File.WriteAllBytes(target, bytes);
            if (node.Entry.Modified is { } time)
                File.SetLastWriteTimeUtc(target, time.ToDateTime());
        }
    }

    public void Dispose() => _folder.Dispose();
}

using Vembar.Core.Compaction;
using Vembar.Core.Disks;
using Vembar.Core.Sources;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>What a capture of a volume would take.</summary>
/// <param name="Files">Files and links, each name counted.</param>
/// <param name="Bytes">Their bytes; hard-linked content counts once.</param>
/// <param name="LeftOut">What would be left out.</param>
public sealed record WouldTake(long Files, long Bytes, IReadOnlyList<LeftOut> LeftOut)
{
    /// <summary>Files that the volume keeps compacted.</summary>
    public CompactedCount Compacted { get; init; } = new(0, 0, 0);
}

/// <summary>A volume of a source.</summary>
/// <param name="Number">What --volume takes.</param>
/// <param name="Start">Its first byte on the disk.</param>
/// <param name="Length">Its length in bytes; for a folder what its files hold.</param>
/// <param name="FileSystem">"ntfs", "fat32" and so on; "folder" for a folder of Linux.</param>
/// <param name="Label">Its label.</param>
/// <param name="Used">Bytes in use; null where that is not known.</param>
/// <param name="Role">"Windows", "EFI system", "boot files", "reserved", "recovery", "data" or empty.</param>
/// <param name="Problem">Why it cannot be read; empty when it can.</param>
/// <param name="Windows">The install; null when there is none.</param>
/// <param name="Programs">How many programs it has.</param>
/// <param name="Take">What a capture would take; null where it is no source.</param>
public sealed record SurveyedVolume(
    int Number, long Start, long Length, string FileSystem, string Label, long? Used, string Role, string Problem, WindowsInstall? Windows, int Programs, WouldTake? Take);

/// <summary>How a disk is divided.</summary>
/// <param name="Scheme">"gpt", "mbr" or "none".</param>
/// <param name="Format">"raw", "vhd", "vhdx", "qcow2" or "vmdk".</param>
/// <param name="Bytes">Its length.</param>
/// <param name="SectorSize">Bytes of a sector.</param>
public sealed record SurveyedDisk(string Scheme, string Format, long Bytes, int SectorSize);

/// <summary>What a source holds.</summary>
/// <param name="Source">The source.</param>
/// <param name="Disk">The disk; null for a folder.</param>
/// <param name="Volumes">Its volumes.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record SurveyResult(string Source, SurveyedDisk? Disk, IReadOnlyList<SurveyedVolume> Volumes, IReadOnlyList<string> Warnings);

/// <summary>Looks at a source.</summary>
public static class SurveyOperation
{
    /// <summary>Finds volumes and installs, and what a capture would take of them.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public static SurveyResult Run(string path, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        if (Directory.Exists(path) || !Path.Exists(path))
        {
            using var folder = FolderSource.Open(path);
            var (install, programs, take) = Look(folder, always: true, progress, cancellation);
            return new SurveyResult(path, null, [new SurveyedVolume(1, 0, take!.Bytes, "folder", "", null, install is null ? "" : "Windows", "", install, programs, take)], []);
        }
        using var disk = Disk.Open(path);
        var volumes = disk.Volumes.Select(v => Survey(disk, v, progress, cancellation)).ToList();
        var shape = new SurveyedDisk(disk.Table.Scheme.ToString().ToLowerInvariant(), disk.Format.ToString().ToLowerInvariant(), disk.Length, disk.Table.SectorSize);
        return new SurveyResult(path, shape, volumes, disk.Table.Warnings);
    }

    private static SurveyedVolume Survey(Disk disk, DiskVolume volume, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var system = volume.FileSystem;
        var result = new SurveyedVolume(volume.Number, volume.Start, volume.Length, system.Kind, system.Label, system.Used, Role(volume), "", null, 0, null);
        if (system.Kind == FileSystem.Encrypted)
            return result with { Problem = "encrypted as a whole; nothing of it can be read" };
        if (system.Kind != FileSystem.Ntfs)
            return result;
        try
        {
            using var source = FoundSource.OpenVolume(disk, volume);
            var (install, programs, take) = Look(source, always: disk.Volumes.Count == 1, progress, cancellation);
            var role = install is not null ? "Windows" : result.Role is "data" or "" && source.Exists(Trees.WindowsPath.Parse("bootmgr")) ? "boot files" : result.Role;
            return result with { Role = role, Windows = install, Programs = programs, Take = take };
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return result with { Problem = problem.Details.Count > 0 ? $"{problem.Message}: {problem.Details[0]}" : problem.Message };
        }
    }

    private static string Role(DiskVolume volume)
    {
        const byte MbrEfi = 0xEF, MbrRecovery = 0x27;
        if (volume.Partition is not { } partition)
            return "";
        if (partition.Type == PartitionTypes.EfiSystem || partition.MbrType == MbrEfi)
            return "EFI system";
        if (partition.Type == PartitionTypes.Reserved)
            return "reserved";
        if (partition.Type == PartitionTypes.Recovery || partition.MbrType == MbrRecovery)
            return "recovery";
        return partition.Type == PartitionTypes.BasicData || partition.MbrType != 0 ? "data" : "";
    }

    private static (WindowsInstall? Install, int Programs, WouldTake? Take) Look(ISource source, bool always, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var programs = 0;
        var install = WindowsInstall.Read(source, (name, hive) => programs += name == "SOFTWARE" ? InstalledProgram.Read(hive).Count : 0);
        if (install is null && !always)
            return (null, 0, null);
        // What cannot be read is told by the capture; here it must not hide the rest.
        var tree = source.Walk(new Exclusions([], keepAll: false), null, skipUnreadable: true, files => progress.Report(new OperationProgress("looking", files, 0, false, "")), cancellation);
        return (install, programs, new WouldTake(tree.Files, tree.Bytes, tree.LeftOut) { Compacted = tree.Compacted });
    }
}

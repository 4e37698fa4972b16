using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Operations.Files;
using Vembar.Volumes.Disks;
using Vembar.Volumes.Sources;
using Vembar.Windows.Install;

namespace Vembar.Operations.Survey;

/// <summary>Looks at a source.</summary>
public sealed class SurveyHandler(OperationHost host) : IOperationHandler<SurveyRequest, SurveyResult>
{
    /// <summary>Finds volumes and installs, and what a capture would take of them.</summary>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public async Task<SurveyResult> HandleAsync(SurveyRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var path = request.Source;
        if (Directory.Exists(path) || !Path.Exists(path))
        {
            using var folder = FolderSource.Open(path);
            var (install, programs, take, _) = await LookAsync(folder, always: true, progress, cancellation).ConfigureAwait(false);
            return new SurveyResult(path, null,
                [new SurveyedVolume(1, 0, take!.Bytes, "folder", "", null, install is null ? "" : "Windows", "", install, programs, take)],
                []);
        }
        using var disk = Disk.Open(path, reading: request.Reading);
        var volumes = new List<SurveyedVolume>();
        var warnings = new List<string>(disk.Warnings);
        foreach (var volume in disk.Volumes)
            volumes.Add(await SurveyAsync(disk, volume, warnings, progress, cancellation).ConfigureAwait(false));
        var shape = new SurveyedDisk(disk.Table.Scheme.ToString().ToLowerInvariant(), disk.Format.ToString().ToLowerInvariant(),
            disk.Length, disk.Table.SectorSize);
        return new SurveyResult(path, shape, volumes, warnings);
    }

    private async Task<SurveyedVolume> SurveyAsync(Disk disk, DiskVolume volume, List<string> warnings,
        IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var system = volume.FileSystem;
        var result = new SurveyedVolume(volume.Number, volume.Start, volume.Length, system.Kind, system.Label, system.Used, Role(volume),
            "", null, 0, null);
        if (system.Kind == FileSystem.Encrypted)
            return result with { Problem = "encrypted as a whole; nothing of it can be read" };
        if (system.Kind != FileSystem.Ntfs)
            return result;
        try
        {
            using var source = ResolvedSource.OpenVolume(disk, volume);
            var (install, programs, take, told) =
                await LookAsync(source, always: disk.Volumes.Count == 1, progress, cancellation).ConfigureAwait(false);
            warnings.AddRange(told.Select(t => $"volume {volume.Number}: {t}"));
            var role = install is not null ? "Windows"
                : result.Role is "data" or "" && source.Exists(WindowsPath.Parse("bootmgr")) ? "boot files" : result.Role;
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

    private async Task<(WindowsInstall? Install, int Programs, WouldTake? Take, IReadOnlyList<string> Told)> LookAsync(ISource source,
        bool always, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var programs = 0;
        var install = WindowsInstall.Read(source, (name, hive) => programs += name == "SOFTWARE" ? InstalledProgram.Read(hive).Count : 0);
        if (install is null && !always)
            return (null, 0, null, []);
        // What cannot be read is told by the capture; here it must not hide the rest.
        var tree = await source.WalkAsync(new WalkOptions
        {
            Exclusions = new Exclusions([], keepAll: false),
            SkipUnreadable = true,
            Seen = files => progress.Report(new OperationProgress("looking", files, 0, false, "")),
            Workers = host.Workers,
        }, cancellation).ConfigureAwait(false);
        return (install, programs, new WouldTake(tree.Files, tree.Bytes, tree.Excluded) { Compacted = tree.Compacted }, tree.Warnings);
    }
}

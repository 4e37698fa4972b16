using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Volumes.Compaction;
using Vembar.Volumes.Targets;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Deploy;

/// <summary>Writes an image into a folder, onto a disk or into a volume.</summary>
public sealed class DeployHandler(OperationHost host) : IOperationHandler<DeployRequest, DeployResult>
{
    /// <summary>Checks everything that can be checked, then writes.</summary>
    /// <exception cref="VembarException">Something is in the way; what was written is taken away again.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; what was written is taken away again.</exception>
    public async Task<DeployResult> HandleAsync(DeployRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        using var archive = Checks.Collect(problems, () => ArchiveReader.Open(request.Image.Archive, host.Files));
        var image = archive is null ? null : Checks.Collect(problems, () => archive.Find(request.Image.Which, host.Clock));
        var isDisk = request.Size is not null || request.Volume is not null || request.Layout is not null || request.MayErase is not null
            || (Path.Exists(request.Target) ? !Directory.Exists(request.Target) : DiskDeployment.IsDiskName(request.Target));
        var layout = isDisk && request.Volume is null ? Checks.Collect(problems, () => DiskLayout.Named(request.Layout ?? "uefi")) : null;
        Checks.Collect(problems, () =>
        {
            if (isDisk)
                TargetChecks.Disk(request, archive);
            else
                TargetChecks.Folder(request);
            return "";
        });
        if (!isDisk && request.Compact != CompactionChoice.None)
            problems.Add(new VembarException(ErrorKind.Usage, "compact-where", "a folder of Linux keeps no compacted files",
                Advice.Of("compact-where")));
        if (request.ComputerName is { } name && AnswerFile.ComputerNameProblem(name) is { } problem)
            problems.Add(new VembarException(ErrorKind.Usage, "bad-computer-name", problem, "Use up to 15 letters, digits and hyphens, "
                + "not digits alone."));
        if (image?.UserFiles is not null && isDisk)
            problems.Add(VembarException.Input("user-files", $"image {image.Number} {image.Title} of '{archive!.Path}' holds user files, "
                + "not an install", Advice.Of("user-files-there")));
        if (image is not null && request.SignedBy is { } trust)
            Checks.Collect(problems, () =>
            {
                trust.Demand(image, archive!.Path);
                return "";
            });
        if (image is not null && request.Root is { } root && image.Root.ToString() != root)
            problems.Add(VembarException.Input("other-image",
                $"image {image.Number} {image.Title} of '{archive!.Path}' is not the one that was meant: its files are others"));
        if (image is not null && layout is not null && !request.AcceptMisfit)
            Checks.Collect(problems, () =>
            {
                TargetChecks.Fits(archive!, image, layout);
                return "";
            });
        Checks.Throw(problems);

        var warnings = new List<string>();
        if (image!.IsRetired(host.Today) || image.Held)
            warnings.Add($"image {image.Number} {image.Title} is {(image.Held ? "held back" : "retired")}");
        if (image.VirtualOnly == true)
            warnings.Add($"image {image.Number} {image.Title} was generalized for the same virtual hardware alone: on other hardware it "
                + "finds no devices at its first start");
        var tree = new ImageTree(archive!, image.Root, $"{archive!.Path}#{image.Number}");
        var editor = new TreeEditor(tree) { Clock = host.Clock };
        if (request.Answers is not null || request.ComputerName is not null)
            MachineSettings.Apply(request, editor, warnings);
        MachineSettings.FillIn(request, editor, warnings, isDisk);

        using var fetching = archive.FetchTrees();
        var deployment = new Deployment(request, host, archive, image, tree, editor, warnings, progress, clock);
        return isDisk ? await new DiskDeployment(deployment, layout).RunAsync(cancellation).ConfigureAwait(false)
            : await new FolderDeployment(deployment).RunAsync(cancellation).ConfigureAwait(false);
    }
}

using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.Copy;
using Vembar.Operations.Deploy;
using Vembar.Operations.Diff;
using Vembar.Operations.Drivers;
using Vembar.Operations.Drop;
using Vembar.Operations.Files;
using Vembar.Operations.History;
using Vembar.Operations.Mark;
using Vembar.Operations.Ready;
using Vembar.Operations.Service;
using Vembar.Operations.Show;
using Vembar.Operations.Survey;
using Vembar.Operations.Verify;
using Vembar.Operations.Workspaces;
using Vembar.Store.Compression;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;

#pragma warning disable CA1068 // the file system, which few tests replace, comes last

namespace Vembar.Tests;

/// <summary>What tests do with archives, each waited for to its end.</summary>
public static class Do
{
    private static OperationHost HostWith(IFileSystem? layer) => layer is null ? OperationHost.Default : new OperationHost
    {
        Files = layer,
    };

    private static TResult Wait<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        handler.HandleAsync(request, progress ?? NoProgress.Instance, cancellation).GetAwaiter().GetResult();

    public static CaptureResult Capture(string source, string archive, string name = "one",
        Func<CaptureRequest, CaptureRequest>? with = null, IFileSystem? layer = null)
    {
        var request = new CaptureRequest { Source = source, Archive = archive, Name = name };
        return Capture(with is null ? request : with(request), layer: layer);
    }

    public static CaptureResult Capture(CaptureRequest request, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default, IFileSystem? layer = null, OperationHost? host = null) =>
        Wait(new CaptureHandler(host ?? HostWith(layer)), request, progress, cancellation);

    public static DeployResult Deploy(string image, string target, Func<DeployRequest, DeployRequest>? with = null)
    {
        var request = new DeployRequest { Image = ImageReference.Parse(image), Target = target, Verify = true };
        return Deploy(with is null ? request : with(request));
    }

    public static DeployResult Deploy(DeployRequest request, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) => Wait(new DeployHandler(OperationHost.Default), request, progress, cancellation);

    public static VerifyResult Verify(ArchiveLocation archive, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new VerifyHandler(OperationHost.Default), new VerifyRequest(archive), progress, cancellation);

    public static VerifyResult Repair(ArchiveLocation archive, IReadOnlyList<string> from, TimeSpan wait = default,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        Wait(new RepairHandler(OperationHost.Default), new RepairRequest(archive, from, wait), progress, cancellation);

    public static VerifyResult GiveUpNewer(ArchiveLocation archive, TimeSpan wait = default,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        Wait(new GiveUpTailHandler(OperationHost.Default), new GiveUpTailRequest(archive, wait), progress, cancellation);

    public static RecoverResult Recover(ArchiveLocation archive, string to, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new RecoverHandler(OperationHost.Default), new RecoverRequest(archive, to), progress, cancellation);

    public static ServiceResult Service(string image, string? name, params IChange[] changes) => Service(new ServiceRequest
    {
        Image = ImageReference.Parse(image),
        Changes = changes,
        As = name,
        InPlace = name is null,
    });

    public static ServiceResult Service(ServiceRequest request, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default, IFileSystem? layer = null) =>
        Wait(new ServiceHandler(HostWith(layer)), request, progress, cancellation);

    public static ShowResult Show(ImageReference image, bool lookIntoDrivers = false, bool planTidying = false) =>
        Wait(new ShowHandler(OperationHost.Default), new ShowRequest(image, lookIntoDrivers, planTidying));

    public static ImageRecord Record(ImageReference image) => Wait(new RecordHandler(OperationHost.Default), image);

    public static CompactResult Compact(ArchiveLocation archive, Effort? effort = null, TimeSpan wait = default,
        IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default, IFileSystem? layer = null) =>
        Wait(new CompactHandler(HostWith(layer)), new CompactRequest(archive, effort, null, wait), progress, cancellation);

    public static DropResult Drop(ImageReference image, TimeSpan wait = default, IFileSystem? layer = null,
        CancellationToken cancellation = default) =>
        Wait(new DropHandler(HostWith(layer)), new DropRequest(image, null, wait), null, cancellation);

    public static CopyResult Copy(ImageReference from, ArchiveLocation to, string? name = null, TimeSpan wait = default,
        IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default, IFileSystem? layer = null) =>
        Wait(new CopyHandler(HostWith(layer)), new CopyRequest(from, to, name, null, wait), progress, cancellation);

    public static MarkResult Mark(MarkRequest request, OperationHost? host = null) =>
        Wait(new MarkHandler(host ?? OperationHost.Default), request);

    public static ImageRecord Retitle(RetitleRequest request, IFileSystem? layer = null, CancellationToken cancellation = default) =>
        Wait(new RetitleHandler(HostWith(layer)), request, null, cancellation);

    public static IReadOnlyList<ArchiveState> History(string archive) =>
        Wait(new HistoryHandler(OperationHost.Default), new HistoryRequest(archive)).States;

    public static ArchiveState Rewind(string archive, long state, TimeSpan wait = default, IFileSystem? layer = null,
        CancellationToken cancellation = default) =>
        Wait(new RewindHandler(HostWith(layer)), new RewindRequest(archive, state, wait), null, cancellation);

    public static IReadOnlyList<DriverRow> Drivers(IReadOnlyList<string> paths, ImageReference? image, DriverTrust trust,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        Wait(new DriversHandler(OperationHost.Default), new DriversRequest(paths, image, trust), progress, cancellation);

    public static CoverageResult Coverage(IReadOnlyList<string> paths, ImageReference? image, string architecture,
        IReadOnlyList<HardwareProfile> profiles, DriverTrust trust, CancellationToken cancellation = default) =>
        Wait(new CoverageHandler(OperationHost.Default), new CoverageRequest(paths, image, architecture, profiles, trust), null,
            cancellation);

    public static DiffResult Diff(ImageReference from, ImageReference to, CancellationToken cancellation = default) =>
        Wait(new DiffHandler(OperationHost.Default), new DiffRequest(from, to), null, cancellation);

    public static ReadyResult Ready(string source, int? volume = null, string? rules = null, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) => Wait(new ReadyHandler(OperationHost.Default),
        new ReadyRequest { Source = source, Volume = volume, Rules = rules }, progress, cancellation);

    public static ReadyResult Ready(ImageReference image, string? rules) =>
        Wait(new ReadyHandler(OperationHost.Default), new ReadyRequest { Image = image, Rules = rules });

    public static TakeResult Take(ImageReference image, IReadOnlyList<string> paths, string to,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        Wait(new TakeHandler(OperationHost.Default), new TakeRequest(image, paths, to), progress, cancellation);

    public static long Print(ImageReference image, string path, Stream to) =>
        Wait(new PrintHandler(OperationHost.Default), new PrintRequest(image, path, to));

    public static SurveyResult Survey(string source, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new SurveyHandler(OperationHost.Default), new SurveyRequest(source), progress, cancellation);

    public static WorkspaceOpened OpenWorkspace(ImageReference image, string folder, IReadOnlyList<string> only,
        IProgress<OperationProgress>? progress = null, CancellationToken cancellation = default) =>
        Wait(new WorkspaceOpenHandler(OperationHost.Default), new WorkspaceOpenRequest(image, folder, only), progress, cancellation);

    public static WorkspaceStatus WorkspaceStatus(string folder, string? archive, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new WorkspaceStatusHandler(OperationHost.Default), new WorkspaceStatusRequest(folder, archive), progress, cancellation);

    public static WorkspaceSaved SaveWorkspace(WorkspaceSaveRequest request, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new WorkspaceSaveHandler(OperationHost.Default), request, progress, cancellation);

    public static int CloseWorkspace(string folder, bool loseChanges, string? archive, IProgress<OperationProgress>? progress = null,
        CancellationToken cancellation = default) =>
        Wait(new WorkspaceCloseHandler(OperationHost.Default), new WorkspaceCloseRequest(folder, loseChanges, archive), progress,
            cancellation);

    /// <summary>Opens an archive to write into it.</summary>
    public static ArchiveWriter Write(ArchiveLocation archive, bool create, TimeSpan wait = default) =>
        ArchiveWriter.OpenAsync(archive, new WriterOptions { MayCreate = create, Wait = wait }).GetAwaiter().GetResult();

    public static T WithTree<T>(string archive, int number, Func<ImageTree, T> look)
    {
        using var reader = ArchiveReader.Open(archive);
        return look(new ImageTree(reader, reader.Find($"{number}").Root, archive));
    }

    /// <summary>Type, mode, time in ns, size of files, link targets and content of everything below a folder, from find and
    /// b3sum.</summary>
    public static string Listing(string folder) => Tools.Run("sh",
        ["-c", "find . \\( -type f -printf '%p %y %m %T@ %s %n\\n' -o -printf '%p %y %m %T@ %l\\n' \\) | LC_ALL=C sort; find . -type f "
        + "-print0 | LC_ALL=C sort -z | xargs -0 -r b3sum"], folder);
}

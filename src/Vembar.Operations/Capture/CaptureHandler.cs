using System.Diagnostics;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Volumes.Pipeline;
using Vembar.Volumes.Sources;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;

namespace Vembar.Operations.Capture;

/// <summary>Makes an image of a folder and adds it to an archive.</summary>
public sealed class CaptureHandler(OperationHost host) : IOperationHandler<CaptureRequest, CaptureResult>
{
    /// <summary>Checks everything that can be checked, then captures.</summary>
    /// <exception cref="VembarException">Something is in the way; the archive is as it was.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted; the archive is as it was.</exception>
    public async Task<CaptureResult> HandleAsync(CaptureRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var problems = new List<VembarException>();
        Checks.Collect(problems, () =>
        {
            Checks.ImageName(request.Name);
            Checks.VersionText(request.Version);
            return "";
        });
        var exclusions = Checks.Collect(problems, () => new Exclusions(request.LeaveOut, request.KeepAll));
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(request.Source, request.Volume,
            request.Reading));
        Checks.Collect(problems, () =>
        {
            Checks.CanAddTo(host, request.Archive, request.Name, request.Version);
            return "";
        });
        var based = request.BasedOn is null ? null : Checks.Collect(problems, () => BaseOf(request));
        var rules = Checks.Collect(problems, () => request.Rules is null ? [] : ReadinessRule.Read(request.Rules));
        Checks.Throw(problems);
        Checks.DemandFinished(found!, request.Source, request.Reading);

        // What a new archive is based on may lie anywhere; later it is looked for beside the archive or where --base says.
        var place = request.BasedOn is null ? request.Archive : request.Archive with
        {
            Bases = [.. request.Archive.Bases, request.BasedOn],
        };
        var began = host.Now;
        var warnings = new List<string>(found!.Warnings);
        var source = found.Source;
        var install = ReadInstall(source, warnings);
        var findings = install is null && WindowsInstall.FindFolder(source) is null ? null : ReadinessCheck.Check(source, rules!);
        Refuse(request, findings);
        using var writer = await ArchiveWriter.OpenAsync(place, host.WriterOptions(request.Wait) with
        {
            MayCreate = true,
            Effort = request.Effort,
            BasedOn = based is null ? [] : [based],
        }, cancellation).ConfigureAwait(false);
        // A base that is missing is told before anything is read.
        _ = writer.Base.Bases;
        var version = Checks.VersionFor(writer.Base, request.Name, request.Version, host, warnings);
        if (writer.LeftOverRemoved > 0)
            warnings.Add($"{writer.LeftOverRemoved} bytes that an interrupted run left at the end of '{request.Archive}' were removed");

        var earlier = EarlierImage.Find(writer.Base, source, Path.GetFullPath(request.Source), trustTimes: !request.Reread, began);
        var reads = request.Reread || earlier is { TrustsTimes: false };
        var (looking, expected) = earlier is not null && reads ? ($"comparing with image {earlier.Number}", earlier.Files) : ("looking", 0);
        // What an image that is cut short lacks cannot be read.
        var skipsUnreadable = request.SkipUnreadable || request.Reading.AcceptDamaged;
        using var pause = host.Memory.BeginKeeping();
        var tree = await source.WalkAsync(new WalkOptions
        {
            Exclusions = exclusions!,
            Avoid = request.Archive.Path,
            SkipUnreadable = skipsUnreadable,
            Seen = files => progress.Report(new OperationProgress(looking, files, expected, false, "")),
            Earlier = earlier,
            OpensAll = true,
            Workers = host.Workers,
        }, cancellation).ConfigureAwait(false);
        warnings.AddRange(tree.Warnings);
        CheckRoom(request, writer.Base, tree.Allocated);
        var options = new PipelineOptions(request.Effort, skipsUnreadable, host.Workers);
        var stored = await new TreeCapture(host, writer, source).StoreAsync(tree, reads, options, progress, cancellation)
            .ConfigureAwait(false);
        warnings.AddRange(stored.Warnings);
        var ofVolume = found.Volume is { } volume ? $", volume {volume.Number}" : "";
        var record = new ImageRecord
        {
            Number = 0,
            Name = request.Name,
            Version = version,
            Edition = request.Edition ?? install?.Edition ?? "",
            Note = request.Note,
            Labels = request.Labels,
            Product = install?.Product ?? "",
            Build = install?.Build ?? "",
            Architecture = install?.Architecture ?? "",
            Languages = install?.Languages ?? [],
            ComputerName = install?.ComputerName ?? "",
            State = install?.State ?? "",
            Firmware = install is null ? null : FirmwareFacts.Read(source, install.Folder, install.Architecture),
            VirtualOnly = install is not null && GeneralizeLog.Read(source, install.Folder) is { } log
                ? GeneralizeLog.IsVirtualOnly(log) : null,
            Created = began,
            Root = stored.Root,
            Files = tree.Files - stored.Vanished,
            Folders = tree.Folders,
            Bytes = tree.Bytes,
            Compacted = tree.Compacted.Files > 0 ? tree.Compacted : null,
            Origin = new ImageOrigin
            {
                Kind = source.Kind,
                From = Path.GetFullPath(request.Source),
                Identity = source.Identity,
                Program = Checks.ProgramVersion,
                Read = began,
                ChangedBefore = source.ChangedBefore(began, tree.Latest),
                Root = stored.Root,
            },
            Findings = findings,
            History = [new HistoryEntry
            {
                Time = began,
                Action = "capture",
                Details = [$"from {Path.GetFullPath(request.Source)}{ofVolume}"],
            }],
        };
        record = writer.CommitImage(record, null, Checks.Change("capture", writer.Base.Catalogue.NextNumber, record));
        if (writer.BytesUsedAgain > 0)
            warnings.Add($"{ByteSize.Show(writer.BytesUsedAgain)} that an earlier run had made ready for '{request.Archive}' were used "
                + "again");
        var stats = new StoreStats(record.Files, stored.FilesRead + tree.FilesRead, tree.Bytes,
            tree.BytesRead + stored.State.BytesRead, stored.State.BytesNew + writer.BytesUsedAgain, writer.BytesStored,
            clock.Elapsed.TotalSeconds);
        return new CaptureResult(request.Archive.Path, record, stats, stored.LeftOut, warnings);
    }

    private static void Refuse(CaptureRequest request, IReadOnlyList<Finding>? findings)
    {
        var stops = (findings ?? []).Where(f => f.Severity == Severity.Stop).ToList();
        if (stops.Count == 0 || request.AcceptUnready)
            return;
        // A single one is told in the line below.
        var why = stops.Count == 1 ? "" : $": {stops.Count} findings stand against it";
        throw VembarException.Input("not-ready",
            $"'{request.Source}' is not ready to be captured{why}",
            Advice.Of("not-ready"),
            [.. stops.Select(f => $"{f.Check}: {f.Text} ({f.Found}). {f.Remedy}")]);
    }

    // Installs come down to a third or less, hardly ever to a tenth; into an archive that holds much of it already, to nothing.
    private static void CheckRoom(CaptureRequest request, ArchiveReader archive, long bytes)
    {
        const int LeastShare = 10;
        if (request.SkipRoomCheck || request.Archive.IsRemote || archive.Images.Count > 0 || archive.Header.Bases.Count > 0)
            return;
        var free = Native.Posix.FreeBytes(Path.GetDirectoryName(Path.GetFullPath(request.Archive.Path))!);
        if (free < bytes / LeastShare)
            throw VembarException.Environment("no-room",
                $"the source holds {ByteSize.Show(bytes)}, and there is room for {ByteSize.Show(free)} where '{request.Archive}' goes",
                Advice.Of("no-room"));
    }

    private BaseArchive BaseOf(CaptureRequest request)
    {
        var other = Checks.AsBase(new ArchiveLocation(request.BasedOn!, request.Archive.Bases), host);
        if (host.Files.Exists(request.Archive.Path))
        {
            using var archive = ArchiveReader.Open(request.Archive, host.Files);
            if (archive.Header.Id == other.Id)
                throw new VembarException(ErrorKind.Usage, "based-on-itself", $"'{request.Archive}' cannot be based on itself",
                    Advice.Of("based-on-itself"));
            if (archive.Header.Bases.All(b => b.Id != other.Id))
                throw VembarException.Input("not-based-on",
                    $"'{request.Archive}' was made without '{request.BasedOn}' as its base, and that is settled when an archive is made",
                    Advice.Of("not-based-on"));
        }
        return other;
    }

    private static WindowsInstall? ReadInstall(ISource source, List<string> warnings)
    {
        try
        {
            var install = WindowsInstall.Read(source);
            if (install is null)
            {
                var name = source is FolderSource ? $"'{source.DisplayName}'" : source.DisplayName;
                warnings.Add($"no Windows found in {name}; it is captured as it is");
            }
            return install;
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            warnings.Add($"what Windows says of itself could not be read: {problem.Message}");
            return null;
        }
    }
}

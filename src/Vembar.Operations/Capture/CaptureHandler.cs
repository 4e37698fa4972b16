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
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(request.Source, request.Volume));
        Checks.Collect(problems, () =>
        {
            Checks.CanAddTo(host, request.Archive, request.Name, request.Version);
            return "";
        });
        var based = request.BasedOn is null ? null : Checks.Collect(problems, () => BaseOf(request));
        var rules = Checks.Collect(problems, () => request.Rules is null ? [] : ReadinessRule.Read(request.Rules));
        Checks.Throw(problems);

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
        using var pause = host.Memory.BeginKeeping();
        var tree = await source.WalkAsync(new WalkOptions
        {
            Exclusions = exclusions!,
            Avoid = request.Archive.Path,
            SkipUnreadable = request.SkipUnreadable,
            Seen = files => progress.Report(new OperationProgress(looking, files, expected, false, "")),
            Earlier = earlier,
            OpensAll = true,
            Workers = host.Workers,
        }, cancellation).ConfigureAwait(false);
        warnings.AddRange(tree.Warnings);
        CheckRoom(request, writer.Base, tree.Allocated);
        var files = ContentFiles(tree.Root, all: reads);
        var total = files.Sum(f => f.Length);
        host.Memory.EndPhase(tree.Files);
        using var pipeline =
            new ContentPipeline(writer, source, new PipelineOptions(request.Effort, request.SkipUnreadable, host.Workers));
        await pipeline.RunAsync(files,
            state => progress.Report(new OperationProgress("reading and storing", state.BytesRead, total, true, state.Current)),
            cancellation).ConfigureAwait(false);
        var leftOut = tree.Excluded.Concat(pipeline.Unreadable).OrderBy(l => l.Path, StringComparer.Ordinal).ToList();
        warnings.AddRange(leftOut.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal))
            .Select(l => $"'{l.Path}' cannot be read and is not in the image"));
        warnings.AddRange(pipeline.Changed.Select(path => $"'{path}' changed while it was read; the image holds what was read last"));
        var filesRead = files.Count + tree.FilesRead;
        files = [];
        host.Memory.EndPhase(tree.Files);
        progress.Report(new OperationProgress("writing the index", 0, 0, false, ""));
        var vanished = new List<string>();
        var root = FolderWriter.Write(writer, [WriteNode(writer, tree.Root, vanished)]);
        warnings.AddRange(vanished.Except(pipeline.Unreadable.Select(u => u.Path))
            .Select(path => $"'{path}' went away while the folder was read; it is not in the image"));
        cancellation.ThrowIfCancellationRequested();
        host.Memory.EndPhase(tree.Files);

        var state = pipeline.State;
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
            VirtualOnly = install is null ? null : FirmwareFacts.IsVirtualOnly(source, install.Folder),
            Created = began,
            Root = root,
            Files = tree.Files - vanished.Count,
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
                Root = root,
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
            warnings.Add($"{writer.BytesUsedAgain >> 20} MiB that an earlier run had made ready for '{request.Archive}' were used again");
        var stats = new StoreStats(record.Files, filesRead, tree.Bytes, tree.BytesRead + state.BytesRead,
            state.BytesNew + writer.BytesUsedAgain, writer.BytesStored, clock.Elapsed.TotalSeconds);
        return new CaptureResult(request.Archive.Path, record, stats, leftOut, warnings);
    }

    private static void Refuse(CaptureRequest request, IReadOnlyList<Finding>? findings)
    {
        var stops = (findings ?? []).Where(f => f.Severity == Severity.Stop).ToList();
        if (stops.Count == 0 || request.AcceptUnready)
            return;
        var why = stops.Count == 1 ? stops[0].Text : $"{stops.Count} findings stand against it";
        throw VembarException.Input("not-ready",
            $"'{request.Source}' is not ready to be captured: "
            + why,
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
                $"the source holds {bytes >> 20} MiB, and there is room for {free >> 20} MiB where '{request.Archive}' goes",
                Advice.Of("no-room"));
    }

    private BaseArchive BaseOf(CaptureRequest request)
    {
        using var other = ArchiveReader.Open(new ArchiveLocation(request.BasedOn!, request.Archive.Bases), host.Files);
        if (host.Files.Exists(request.Archive.Path))
        {
            using var archive = ArchiveReader.Open(request.Archive, host.Files);
            if (archive.Header.Id == other.Header.Id)
                throw new VembarException(ErrorKind.Usage, "based-on-itself", $"'{request.Archive}' cannot be based on itself",
                    Advice.Of("based-on-itself"));
            if (archive.Header.Bases.All(b => b.Id != other.Header.Id))
                throw VembarException.Input("not-based-on",
                    $"'{request.Archive}' was made without '{request.BasedOn}' as its base, and that is settled when an archive is made",
                    Advice.Of("not-based-on"));
        }
        return new BaseArchive(other.Header.Id, BaseName(request.BasedOn!));
    }

    // Of an archive on a web server, the file's name.
    private static string BaseName(string place) =>
        Path.GetFileName(PlaceAddress.IsWeb(place) ? Uri.UnescapeDataString(new Uri(place).AbsolutePath) : place);

    private static WindowsInstall? ReadInstall(ISource source, List<string> warnings)
    {
        try
        {
            var install = WindowsInstall.Read(source);
            if (install is null)
                warnings.Add($"no Windows found in '{source.DisplayName}'; the folder is captured as it is");
            return install;
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            warnings.Add($"what Windows says of itself could not be read: {problem.Message}");
            return null;
        }
    }

    // Like lies beside like: first by kind of file, then by name, so that versions of one file meet in one block.
    private static List<SourceNode> ContentFiles(SourceNode root, bool all)
    {
        var files = new List<SourceNode>();
        void Collect(SourceNode folder)
        {
            foreach (var node in folder.Children!)
            {
                if (node.Children is not null)
                    Collect(node);
                else if (node.Kind == EntryKind.File && node.HardLinkOf is null)
                {
                    if (node.Content is not null && !all)
                        continue;
                    if (node.Length == 0)
                        node.Content = FileContent.Empty;
                    else
                        files.Add(node);
                }
            }
        }
        Collect(root);
        var keys = new LikeKey[files.Count];
        for (var i = 0; i < keys.Length; i++)
            keys[i] = new LikeKey(files[i]);
        Array.Sort(keys);
        return [.. keys.Select(k => k.Node)];
    }

    // The order of like beside like. The first letters of the kind and of the name decide most of it, as numbers.
    private readonly struct LikeKey(SourceNode node) : IComparable<LikeKey>
    {
        private readonly ulong _kind = FirstLetters(Path.GetExtension(node.Name.AsSpan()));
        private readonly ulong _name = FirstLetters(node.Name);

        public SourceNode Node => node;

        private static ulong FirstLetters(ReadOnlySpan<char> text)
        {
            const int Letters = 4;
            var number = 0ul;
            for (var i = 0; i < Letters; i++)
                number = number << 16 | (i < text.Length ? char.ToUpperInvariant(text[i]) : 0u);
            return number;
        }

        public int CompareTo(LikeKey other)
        {
            var order = _kind.CompareTo(other._kind);
            if (order == 0)
                order = Path.GetExtension(Node.Name.AsSpan())
                    .CompareTo(Path.GetExtension(other.Node.Name.AsSpan()), StringComparison.OrdinalIgnoreCase);
            if (order == 0)
                order = _name.CompareTo(other._name);
            if (order == 0)
                order = string.Compare(Node.Name, other.Node.Name, StringComparison.OrdinalIgnoreCase);
            return order != 0 ? order : Node.Length.CompareTo(other.Node.Length);
        }
    }

    private static FileContent StoreStream(ArchiveWriter writer, SourceNode node, PendingStream stream)
    {
        if (stream.Bytes is not null)
            return ContentStore.Add(writer, stream.Bytes);
        try
        {
            using var file = stream.Open!();
            return ContentStore.Add(writer, file);
        }
        catch (Native.NativeException failure)
        {
            throw VembarException.From(failure, $"read the stream '{stream.Name}' of", node.Path.ToString())!;
        }
    }

    private static TreeEntry WriteNode(ArchiveWriter writer, SourceNode node, List<string> vanished)
    {
        var entry = node.Entry;
        if (entry.PendingSecurity is not null)
            entry = entry with { Security = writer.Add(BlockKind.Tree, entry.PendingSecurity), PendingSecurity = null };
        if (entry.PendingStreams.Count > 0)
        {
            entry = entry with
            {
                Streams = [.. entry.PendingStreams.Select(s => new NamedStream(s.Name, StoreStream(writer, node, s)))],
                PendingStreams = [],
            };
        }
        if (node.HardLinkOf is not null)
            return entry with { Content = node.HardLinkOf.Content };
        if (node.Children is null)
            return node.Content is null ? entry : entry with { Content = node.Content };
        if (node.IsUnchanged)
            return entry with { Folder = WriteFolderAsItWas(writer, node, vanished) };
        // One at a time: of a large folder, the entries would be most of the memory.
        node.Children.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        var folder = new FolderWriter(writer);
        foreach (ref var place in System.Runtime.InteropServices.CollectionsMarshal.AsSpan(node.Children))
        {
            // What is written is not needed any more; of a million files that is most of the memory.
            var child = place;
            place = null!;
            if ((child.HardLinkOf ?? child).Vanished)
                vanished.Add(child.Path.ToString());
            else
                folder.Add(WriteNode(writer, child, vanished));
        }
        node.ForgetChildren();
        return entry with { Folder = folder.Finish() };
    }

    // Only what is in its folders may have changed.
    private static ChunkId WriteFolderAsItWas(ArchiveWriter writer, SourceNode node, List<string> vanished)
    {
        var earlier = node.Earlier!.Value;
        var changed = new Dictionary<string, ChunkId>();
        foreach (var child in node.Children!)
        {
            if (WriteNode(writer, child, vanished).Folder is var folder && folder != child.Earlier)
                changed[child.Name] = folder;
        }
        if (node.Parent is not null)
            node.ForgetChildren();
        if (changed.Count == 0)
            return earlier;
        try
        {
            return FolderWriter.Write(writer,
                [.. FolderReader.Read(writer.Base, earlier).Select(e => changed.TryGetValue(e.Name, out var folder) ? e with
                {
                    Folder = folder,
                } : e)]);
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{writer.Base.Path}': the folder '{node.Path}' of the earlier image cannot be read: "
                + $"{problem.Message}", Advice.Of("capture-anew"));
        }
    }
}

using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Service;

/// <summary>Changes an image offline, within the archive: an edit of its tree. All changes land, or none.</summary>
public static class ServiceOperation
{
    /// <summary>Makes the changes.</summary>
    /// <exception cref="VembarException">The image cannot be found or read, or the archive not be written.</exception>
    public static ServiceResult Run(ServiceRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation,
        IFileSystem? fileSystem = null)
    {
        var clock = Stopwatch.StartNew();
        if (request.Changes.Count == 0)
            throw new VembarException(ErrorKind.Usage, "nothing-to-do", "no change was asked for",
                Advice.Of("nothing-to-service"));
        if (request.As is not null)
            Checks.ImageName(request.As);
        if (request.PlanOnly)
        {
            using var reader = ArchiveReader.Open(request.Image.Archive, fileSystem);
            return Apply(request, reader, null, clock, progress, cancellation);
        }
        using (var reader = ArchiveReader.Open(request.Image.Archive, fileSystem))
            Look(reader, request);
        using var writer =
            ArchiveWriter.Open(request.Image.Archive, create: false, request.Effort, request.Wait, fileSystem, cancellation: cancellation);
        return Apply(request, writer.Base, writer, clock, progress, cancellation);
    }

    private static ImageRecord Look(ArchiveReader reader, ServiceRequest request)
    {
        var image = reader.Find(request.Image.Which);
        if (request.As is not null)
            Checks.NameIsFree(reader, request.As);
        return image;
    }

    private static ServiceResult Apply(
        ServiceRequest request, ArchiveReader reader, ArchiveWriter? writer, Stopwatch clock, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var image = Look(reader, request);
        var editor = new TreeEditor(new ImageTree(reader, image.Root, $"{reader.Path}#{image.Number}"));
        var context = new ServiceContext(editor) { Cancellation = cancellation, HasOwnAnswerFile = AnswersChange.WasMade(image.History) };
        context.UnsignedDrivers.AddRange(image.UnsignedDrivers ?? []);
        var outcomes = new List<ChangeOutcome>();
        foreach (var change in request.Changes)
        {
            cancellation.ThrowIfCancellationRequested();
            progress.Report(new OperationProgress("making changes", outcomes.Count, request.Changes.Count, false, ""));
            var (from, bytes) = (clock.Elapsed, editor.BytesChanged);
            var made = change.Apply(context).ToList();
            var done = Math.Max(1, made.Count(o => o.Status == ChangeStatus.Done));
            // What a change with one outcome put in or took out is known; several tell it themselves.
            outcomes.AddRange(made.Select(o => o with
            {
                Seconds = (clock.Elapsed - from).TotalSeconds / made.Count,
                Bytes = o.Bytes != 0 || o.Status != ChangeStatus.Done ? o.Bytes : done == 1 ? editor.BytesChanged - bytes : 0,
            }));
        }
        if (outcomes.Any(o => o.Status == ChangeStatus.Refused && !(request.KeepGoing && o.IsOptional)))
        {
            // A plan tells what each would do, also when one stands in the way of all.
            var held = request.PlanOnly ? outcomes : outcomes.ConvertAll(o => o.Status == ChangeStatus.Done ? o with
            {
                Status = ChangeStatus.Skipped,
                Why = "held back: another change was refused",
                Bytes = 0,
            } : o);
            return new ServiceResult(reader.Path, image, false, held, 0, clock.Elapsed.TotalSeconds) { HeldBack = true };
        }
        context.WriteHives();
        if (writer is null || (!editor.HasChanges && request.As is null && request.Title.IsIn(image)))
            return new ServiceResult(reader.Path, image, false, outcomes, 0, clock.Elapsed.TotalSeconds);

        progress.Report(new OperationProgress("storing what changed", 0, 0, false, ""));
        var entry = new HistoryEntry
        {
            Time = request.Host.Now,
            Action = "service",
            Order = request.Order,
            Details = [.. outcomes.Select(o => $"{o.Kind} {o.What}: {o.Status.ToString().ToLowerInvariant()} ({o.Why})")],
        };
        var record = request.Title.In(Recorded(image, request.As, editor, writer, entry, context.ReadChangedInstall())) with
        {
            UnsignedDrivers = context.UnsignedDrivers is { Count: > 0 } unsigned ? [.. unsigned] : null,
        };
        cancellation.ThrowIfCancellationRequested();
        var stored = writer.CommitImage(record, request.As is null ? image.Number : null, $"service {image.Number} {record.Name}");
        return new ServiceResult(reader.Path, stored, true, outcomes, writer.BytesStored, clock.Elapsed.TotalSeconds);
    }

    /// <summary>Stores an edited tree and makes the record of it.</summary>
    /// <param name="image">The image that was edited.</param>
    /// <param name="name">The new image's name; null when it takes the old one's place.</param>
    /// <param name="editor">Its tree.</param>
    /// <param name="writer">Where to.</param>
    /// <param name="entry">What was done.</param>
    /// <param name="install">What Windows says of itself now; null when that is as it was.</param>
    internal static ImageRecord Recorded(
        ImageRecord image, string? name, TreeEditor editor, ArchiveWriter writer, HistoryEntry entry, WindowsInstall? install)
    {
        var root = editor.HasChanges ? editor.Save(writer) : image.Root;
        var record = image with
        {
            Name = name ?? image.Name,
            Created = entry.Time,
            Root = root,
            Files = image.Files + editor.FilesDelta,
            Folders = image.Folders + editor.FoldersDelta,
            Bytes = image.Bytes + (editor.BytesDelta ?? 0),
            History = [.. image.History, entry],
        };
        if (install is not null)
        {
            record = record with
            {
                Product = install.Product,
                Build = install.Build,
                Architecture = install.Architecture,
                Languages = install.Languages,
                ComputerName = install.ComputerName,
                State = install.State,
            };
        }
        if (name is not null)
            record = record with
            {
                Origin = new ImageOrigin
                {
                    Kind = "image",
                    From = $"{writer.Base.Header.Id:D}#{image.Number}",
                    Program = Checks.ProgramVersion,
                }
            };
        // Removing one of several names of a file frees its bytes only when it was the last: that takes a count.
        return editor.BytesDelta is null ? record with { Bytes = CountBytes(editor) } : record;
    }

    private static long CountBytes(TreeEditor editor)
    {
        var groups = new HashSet<(ulong, ChunkId)>();
        long Count(TreeEditor.Node node) => editor.Children(node).Sum(child => child.Entry switch
        {
            { Kind: EntryKind.Folder } => Count(child),
            { LinkGroup: not 0, Content: { } content } when !groups.Add((child.Entry.LinkGroup, content.Hash)) => 0,
            _ => child.Entry.Length,
        });
        return Count(editor.Root);
    }
}

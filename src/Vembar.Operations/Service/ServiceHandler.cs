using System.Diagnostics;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Store.Writing;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Service;

/// <summary>Changes an image offline, within the archive: an edit of its tree. All changes land, or none.</summary>
public sealed class ServiceHandler(OperationHost host) : IOperationHandler<ServiceRequest, ServiceResult>
{
    /// <summary>Makes the changes.</summary>
    /// <exception cref="VembarException">The image cannot be found or read, or the archive not be written.</exception>
    public async Task<ServiceResult> HandleAsync(ServiceRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        if (request.Changes.Count == 0)
            throw new VembarException(ErrorKind.Usage, "nothing-to-do", "no change was asked for",
                Advice.Of("nothing-to-service"));
        if (request.As is not null)
            Checks.ImageName(request.As);
        Checks.VersionText(request.Title.Version ?? "");
        if (request.PlanOnly)
        {
            using var reader = ArchiveReader.Open(request.Image.Archive, host.Files);
            return Apply(request, reader, null, clock, progress, cancellation);
        }
        using (var reader = ArchiveReader.Open(request.Image.Archive, host.Files))
            Look(reader, request);
        using var writer = await ArchiveWriter.OpenAsync(request.Image.Archive,
            host.WriterOptions(request.Wait) with { Effort = request.Effort }, cancellation).ConfigureAwait(false);
        return Apply(request, writer.Base, writer, clock, progress, cancellation);
    }

    private ImageRecord Look(ArchiveReader reader, ServiceRequest request)
    {
        var image = reader.Find(request.Image.Which, host.Clock);
        if (request.As is not null && !string.IsNullOrEmpty(request.Title.Version))
            Checks.TitleIsFree(reader, request.As, request.Title.Version);
        if (request.As is null && request.InPlace)
            Checks.MayReplace(reader, image, request.Title.Version);
        return image;
    }

    private ServiceResult Apply(
        ServiceRequest request, ArchiveReader reader, ArchiveWriter? writer, Stopwatch clock, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var image = Look(reader, request);
        var editor = new TreeEditor(new ImageTree(reader, image.Root, $"{reader.Path}#{image.Number}")) { Clock = host.Clock };
        var context = new ServiceContext(editor) { Cancellation = cancellation, HasOwnAnswerFile = AnswersChange.WasMade(image.History) };
        context.UnsignedDrivers.AddRange(image.UnsignedDrivers ?? []);
        context.Models.UnionWith(image.Models ?? []);
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
            Time = host.Now,
            Action = "service",
            Order = request.Order,
            Details = [.. outcomes.Select(o => $"{o.Kind} {o.What}: {o.Status.ToString().ToLowerInvariant()} ({o.Why})")],
        };
        var notes = new List<string>();
        var title = request.Title;
        if (request.As is not null && Checks.VersionFor(reader, request.As, title.Version, host, notes) is { Length: > 0 } version)
            title = title with { Version = version };
        var record = title.In(ServicedRecord.Store(image, request.As, editor, writer, entry, context.ReadChangedInstall())) with
        {
            Models = context.Models is { Count: > 0 } models ? [.. models] : null,
            UnsignedDrivers = context.UnsignedDrivers is { Count: > 0 } unsigned ? [.. unsigned] : null,
        };
        cancellation.ThrowIfCancellationRequested();
        var stored = writer.CommitImage(record, request.As is null ? image.Number : null,
            Checks.Change("service", image.Number, record));
        return new ServiceResult(reader.Path, stored, true, outcomes, writer.BytesStored, clock.Elapsed.TotalSeconds) { Notes = notes };
    }
}

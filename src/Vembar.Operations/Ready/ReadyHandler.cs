using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Store.Reading;
using Vembar.Volumes.Sources;
using Vembar.Windows.Inspection;
using Vembar.Windows.Install;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Operations.Ready;

/// <summary>Looks whether an install may be captured.</summary>
public sealed class ReadyHandler(OperationHost host) : IOperationHandler<ReadyRequest, ReadyResult>
{
    /// <summary>Runs all checks; nothing is written.</summary>
    /// <exception cref="VembarException">The source cannot be read, there is no such image, it holds no Windows or is damaged, or the rules
    /// are not right.</exception>
    public Task<ReadyResult> HandleAsync(ReadyRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation) =>
        request.Image is { } image ? Task.Run(() => CheckImage(image, request.Rules), cancellation)
        : CheckSourceAsync(request, progress, cancellation);

    private async Task<ReadyResult> CheckSourceAsync(ReadyRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var (path, rules) = (request.Source, request.Rules);
        var problems = new List<VembarException>();
        var own = Checks.Collect(problems, () => rules is null ? [] : ReadinessRule.Read(rules));
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(path, request.Volume, request.Reading));
        Checks.Throw(problems);
        var tree = await found!.Source.WalkAsync(new WalkOptions
        {
            Exclusions = new Exclusions([], keepAll: true),
            SkipUnreadable = true,
            Seen = files => progress.Report(new OperationProgress("looking", files, 0, false, "")),
            Workers = host.Workers,
        }, cancellation).ConfigureAwait(false);
        WindowsInstall? install = null;
        try
        {
            install = WindowsInstall.Read(found.Source);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            // A finding says so.
        }
        var findings = ReadinessCheck.Check(found.Source, own!, new ReadinessOptions { SizeOf = path => SizeOf(tree, path) }).ToList();
        findings.AddRange(tree.Excluded.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal))
            .Select(l => new Finding("unreadable", Severity.Stop, "a file cannot be read", $"{l.Path}: {l.Rule}", "Let Windows check the "
                + "volume (chkdsk), or take the disk from another copy.")));
        if (found.IsUnfinished)
            findings.Add(new Finding("disk-unfinished", Severity.Stop, "a deployment to the disk was broken off", path,
                "Deploy to it again."));
        findings.AddRange(tree.Unlisted.Select(l => new Finding("unlisted", Severity.Stop, "a file is not in its folder's list", l,
            "Let Windows check the volume (chkdsk).")));
        return new ReadyResult(path, found.Volume?.Number, install, [.. findings.OrderByDescending(f => f.Severity)]);
    }

    private ReadyResult CheckImage(ImageReference reference, string? rules)
    {
        var own = rules is null ? [] : ReadinessRule.Read(rules);
        using var archive = ArchiveReader.Open(reference.Archive, host.Files);
        var image = archive.Find(reference.Which, host.Clock);
        var displayName = $"{archive.Path}#{image.Number}";
        var tree = new ImageTree(archive, image.Root, displayName);
        var options = new ReadinessOptions
        {
            IsImage = true,
            SizeOf = path => tree.Find(path) is { } entry
            ? entry.Kind == EntryKind.Folder ? tree.Walk(entry, path).Sum(e => e.Entry.Length) : entry.Length : 0,
            OwnAnswerFile = WindowsInstall.FindFolder(tree) is { } folder && AnswersChange.WasMade(image.History)
            ? $"{folder}/{AnswersChange.Place}" : null,
        };
        var findings = ReadinessCheck.Check(tree, own, options);
        WindowsInstall? install = null;
        try
        {
            install = WindowsInstall.Read(tree);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            // A finding says so.
        }
        return new ReadyResult(displayName, null, install, findings) { IsImage = true };
    }

    private static long SizeOf(SourceTree tree, WindowsPath path)
    {
        var node = tree.Root;
        foreach (var part in path.Parts)
        {
            node = node.Children?.FirstOrDefault(c => c.Name.Equals(part, StringComparison.OrdinalIgnoreCase));
            if (node is null)
                return 0;
        }
        return Sum(node);
    }

    private static long Sum(SourceNode node) => node.Length + (node.Children?.Sum(Sum) ?? 0);
}

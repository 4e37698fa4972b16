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
public static class ReadyOperation
{
    /// <summary>Runs all checks; nothing is written.</summary>
    /// <param name="path">A folder, a disk image or a block device.</param>
    /// <param name="volume">Which volume; null for the one that holds Windows.</param>
    /// <param name="rules">A file of the organisation's own rules, or null.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">The source cannot be read, holds no Windows, or the rules are not right.</exception>
    public static ReadyResult Run(string path, int? volume, string? rules, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var problems = new List<VembarException>();
        var own = Checks.Collect(problems, () => rules is null ? [] : ReadinessRule.Read(rules));
        using var found = Checks.Collect(problems, () => ResolvedSource.Open(path, volume));
        Checks.Throw(problems);
        var tree = found!.Source.Walk(new Exclusions([], keepAll: true), null, skipUnreadable: true,
            files => progress.Report(new OperationProgress("looking", files, 0, false, "")), cancellation);
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
        return new ReadyResult(path, found.Volume?.Number, install, [.. findings.OrderByDescending(f => f.Severity)]);
    }

    /// <summary>Runs all checks on an image.</summary>
    /// <param name="reference">The image.</param>
    /// <param name="rules">A file of the organisation's own rules, or null.</param>
    /// <exception cref="VembarException">There is no such image, it holds no Windows or is damaged, or the rules are not right.</exception>
    public static ReadyResult Run(ImageReference reference, string? rules)
    {
        var own = rules is null ? [] : ReadinessRule.Read(rules);
        using var archive = ArchiveReader.Open(reference.Archive);
        var image = archive.Find(reference.Which);
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

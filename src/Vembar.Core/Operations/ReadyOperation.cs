using Vembar.Core.Sources;
using Vembar.Core.Windows;

namespace Vembar.Core.Operations;

/// <summary>Whether an install may be captured.</summary>
/// <param name="Source">The source.</param>
/// <param name="Volume">The volume that was looked at; null for a folder.</param>
/// <param name="Install">What the install says of itself; null when its hives cannot be read.</param>
/// <param name="Findings">What was found, the worst first.</param>
public sealed record ReadyResult(string Source, int? Volume, WindowsInstall? Install, IReadOnlyList<Finding> Findings)
{
    /// <summary>True when nothing stands against it.</summary>
    public bool IsReady => Findings.All(f => f.Severity != Severity.Stop);
}

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
    public static ReadyResult Run(string path, int? volume, string? rules, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var problems = new List<VembarException>();
        var own = Checks.Collect(problems, () => rules is null ? [] : ReadinessRule.Read(rules));
        using var found = Checks.Collect(problems, () => FoundSource.Open(path, volume));
        Checks.Throw(problems);
        var tree = found!.Source.Walk(new Exclusions([], keepAll: true), null, skipUnreadable: true, files => progress.Report(new OperationProgress("looking", files, 0, false, "")), cancellation);
        WindowsInstall? install = null;
        try
        {
            install = WindowsInstall.Read(found.Source);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            // A finding says so.
        }
        var findings = Readiness.Check(found.Source, own!, tree).ToList();
        findings.AddRange(tree.LeftOut.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal))
            .Select(l => new Finding("unreadable", Severity.Stop, "a file cannot be read", $"{l.Path}: {l.Rule}", "Let Windows check the volume (chkdsk), or take the disk from another copy.")));
        return new ReadyResult(path, found.Volume?.Number, install, [.. findings.OrderByDescending(f => f.Severity)]);
    }
}

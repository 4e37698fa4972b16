using Vembar.Images.Records;
using Vembar.Windows.Install;

namespace Vembar.Operations.Ready;

/// <summary>Whether an install may be captured.</summary>
/// <param name="Source">The source.</param>
/// <param name="Volume">The volume that was looked at; null for a folder.</param>
/// <param name="Install">What the install says of itself; null when its hives cannot be read.</param>
/// <param name="Findings">What was found, the worst first.</param>
public sealed record ReadyResult(string Source, int? Volume, WindowsInstall? Install, IReadOnlyList<Finding> Findings)
{
    /// <summary>True when nothing stands against it.</summary>
    public bool IsReady => Findings.All(f => f.Severity != Severity.Stop);

    /// <summary>Whether it is an image of an archive.</summary>
    public bool IsImage { get; init; }
}

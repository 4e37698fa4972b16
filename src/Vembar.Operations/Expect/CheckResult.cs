using Vembar.Windows.Install;

namespace Vembar.Operations.Expect;

/// <summary>How an install stands beside expectations.</summary>
/// <param name="What">What was looked at.</param>
/// <param name="Install">What Windows says of itself; null where that cannot be read.</param>
/// <param name="Expectations">Each expectation, and whether it is so.</param>
public sealed record CheckResult(string What, WindowsInstall? Install, IReadOnlyList<ExpectationOutcome> Expectations)
{
    /// <summary>Whether all is so that is not merely to be known.</summary>
    public bool Ok => Expectations.All(e => e.IsSo || e.Severity == Images.Records.Severity.Note);
}

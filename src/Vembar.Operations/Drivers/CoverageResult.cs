using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Drivers;

/// <summary>Which drivers hardware models would get.</summary>
/// <param name="Windows">The Windows that was asked for.</param>
/// <param name="Models">The models with their devices.</param>
/// <param name="Drivers">How many packages were compared.</param>
/// <param name="Passed">Packages that were passed over, with the reason.</param>
public sealed record CoverageResult(WindowsTarget Windows, IReadOnlyList<ModelCoverage> Models, int Drivers,
    IReadOnlyList<ChangeOutcome> Passed)
{
    /// <summary>Whether every device that is needed has a driver.</summary>
    public bool IsInOrder => Coverage.IsInOrder(Models);
}

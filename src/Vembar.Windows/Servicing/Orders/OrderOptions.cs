using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>How a work order is read.</summary>
public sealed record OrderOptions
{
    /// <summary>Certificates that are trusted beside those that the order names: files and folders.</summary>
    public IReadOnlyList<string> Trust { get; init; } = [];

    /// <summary>How drivers are let in where the order does not say.</summary>
    public DriverOptions Drivers { get; init; } = new();

    /// <summary>Texts for the order's variables, in the place of its own.</summary>
    public IReadOnlyDictionary<string, string> Variables { get; init; } = new Dictionary<string, string>();
}

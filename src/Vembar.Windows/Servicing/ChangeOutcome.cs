using Vembar.Common;

namespace Vembar.Windows.Servicing;

/// <summary>How one change ended, and why.</summary>
/// <param name="Kind">What an order calls it: driver, package, feature, answers and so on.</param>
/// <param name="What">What was to be changed.</param>
/// <param name="Status">The word.</param>
/// <param name="Why">The reason, or where it went.</param>
public sealed record ChangeOutcome(string Kind, string What, ChangeStatus Status, string Why)
{
    /// <summary>What would help, which the program puts into words; null for nothing.</summary>
    public Advice? Advice { get; init; }

    /// <summary>Whether the others may be made although it is refused.</summary>
    public bool IsOptional { get; init; }

    /// <summary>Bytes that the image holds more for it, or less.</summary>
    public long Bytes { get; init; }

    /// <summary>Seconds that it took; of a change with several outcomes each has its share.</summary>
    public double Seconds { get; init; }
}

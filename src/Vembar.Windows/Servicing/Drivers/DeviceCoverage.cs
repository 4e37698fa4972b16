namespace Vembar.Windows.Servicing.Drivers;

/// <summary>What a device of a model would get.</summary>
/// <param name="Device">The device.</param>
/// <param name="Chosen">The driver that Windows would choose; null when there is none.</param>
/// <param name="Others">Those that lose, the best first, then those that lose to what goes in beside it.</param>
public sealed record DeviceCoverage(HardwareDevice Device, DriverMatch? Chosen, IReadOnlyList<DriverMatch> Others)
{
    /// <summary>What goes in beside the chosen driver: the newest of each extension, and the components that these bring.</summary>
    public IReadOnlyList<DriverMatch> Beside { get; init; } = [];

    /// <summary>All that the device gets.</summary>
    public IEnumerable<DriverMatch> All => Chosen is null ? Beside : Beside.Prepend(Chosen);

    /// <summary>The one that another one loses to.</summary>
    public DriverMatch? WinnerOver(DriverMatch other) =>
        other.Driver.ExtensionId is { } extension ? Beside.FirstOrDefault(b => b.Driver.ExtensionId == extension)
        : Beside.FirstOrDefault(b => b.Id.Equals(other.Id, StringComparison.OrdinalIgnoreCase)
        && b.Id.StartsWith(@"SWC\", StringComparison.OrdinalIgnoreCase)) ?? Chosen;

    /// <summary>0 for a device without which Windows does not start and that has no driver, 1 for one that is needed, 2 for any other
    /// without a driver, 3 for one with a driver.</summary>
    public int Urgency => Chosen is not null ? 3 : Device.Boot ? 0 : Device.Needed ? 1 : 2;
}

using Vembar.Operations.Drivers;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Cli.Commands.Drivers;

/// <summary>A row of the coverage matrix: a device, and what it gets in each model that has it.</summary>
/// <param name="Device">The device's name.</param>
/// <param name="Cells">By model; null where the model has no such device.</param>
internal sealed record CoverageRow(string Device, IReadOnlyList<DeviceCoverage?> Cells)
{
    /// <summary>The rows, those with gaps first, boot-critical ones foremost.</summary>
    public static IReadOnlyList<CoverageRow> Of(CoverageResult result) =>
    [
        .. result.Models.SelectMany(m => m.Devices).Select(d => d.Device.Name).Distinct(StringComparer.OrdinalIgnoreCase)
            .Select(name => new CoverageRow(name,
                [.. result.Models.Select(
                m => m.Devices.FirstOrDefault(d => d.Device.Name.Equals(name, StringComparison.OrdinalIgnoreCase)))]))
            .OrderBy(r => r.Cells.Min(c => c?.Urgency ?? int.MaxValue)).ThenBy(r => r.Device, StringComparer.OrdinalIgnoreCase),
    ];

    /// <summary>How many have a driver, and what those are that have none.</summary>
    public static string Summary(IReadOnlyCollection<DeviceCoverage> devices)
    {
        string[] kinds = ["boot-critical", "needed", "other"];
        var gaps = kinds.Select((kind, urgency) => (Kind: kind, Count: devices.Count(d => d.Urgency == urgency))).Where(g => g.Count > 0)
            .Select(g => $"{g.Count} {g.Kind}").ToArray();
        return gaps.Length == 0 ? "all have a driver."
            : $"{devices.Count(d => d.Chosen is not null)} have a driver; without one: {string.Join(", ", gaps)}.";
    }

    public static string Cell(DeviceCoverage device) => device switch
    {
        { Chosen: { } } => string.Join(" + ", device.All.Select(Named)),
        { Device.Boot: true } => "NONE, does not start",
        { Device.Needed: true } => "NONE, needed",
        { Beside.Count: > 0 } => $"none; {string.Join(" + ", device.Beside.Select(Named))}",
        _ => "none",
    };

    private static string Named(DriverMatch match) =>
        $"{match.Driver.Name} {match.Driver.Version}{(match.Driver.IsSigned ? "" : " (not trusted)")}";

    /// <summary>Why a driver loses.</summary>
    public static string Why(DeviceCoverage device, DriverMatch loser) =>
        device.WinnerOver(loser) is { } winner ? loser.LosesTo(winner) : "";
}

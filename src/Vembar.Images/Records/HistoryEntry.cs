using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

/// <summary>One thing that was done to make an image.</summary>
public sealed record HistoryEntry
{
    /// <summary>When, UTC.</summary>
    public required DateTime Time { get; init; }

    /// <summary>What: "capture", "service", "copy".</summary>
    public required string Action { get; init; }

    /// <summary>With which result, a line each ("driver corstor.inf: done").</summary>
    public IReadOnlyList<string> Details { get; init; } = [];

    /// <summary>The work order that said so; null when none did.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public OrderOrigin? Order { get; init; }
}

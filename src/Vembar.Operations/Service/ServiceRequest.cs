using Vembar.Images.Records;
using Vembar.Store.Compression;
using Vembar.Windows.Servicing;

namespace Vembar.Operations.Service;

/// <summary>Which image to change, how, and where the result goes.</summary>
public sealed record ServiceRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>The changes in their order.</summary>
    public required IReadOnlyList<IChange> Changes { get; init; }

    /// <summary>The name of the new image; null with <see cref="InPlace"/>.</summary>
    public string? As { get; init; }

    /// <summary>Whether the result takes the image's place.</summary>
    public bool InPlace { get; init; }

    /// <summary>Whether to tell only what would be done.</summary>
    public bool PlanOnly { get; init; }

    /// <summary>Whether the rest is made when changes that are marked optional are refused.</summary>
    public bool KeepGoing { get; init; }

    /// <summary>The work order that the changes come from; null for none.</summary>
    public OrderOrigin? Order { get; init; }

    /// <summary>What is said of the result.</summary>
    public ImageTitle Title { get; init; } = new();

    /// <summary>How hard to compress what is new.</summary>
    public Effort Effort { get; init; } = Effort.Balanced;

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }
}

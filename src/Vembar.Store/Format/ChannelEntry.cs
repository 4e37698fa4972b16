namespace Vembar.Store.Format;

/// <summary>A channel in the catalogue. The images of one name have channels of their own.</summary>
internal sealed record ChannelEntry
{
    /// <summary>The channel's name; compared without case.</summary>
    public required string Channel { get; init; }

    /// <summary>The number of the image that it points at.</summary>
    public required int Image { get; init; }
}

namespace Vembar.Operations.Mark;

/// <summary>How to mark an image; null leaves a mark as it is.</summary>
public sealed record MarkRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>Channels that are to point at it, away from other versions of its name.</summary>
    public IReadOnlyList<string> Channels { get; init; } = [];

    /// <summary>Channels that are not to point at it any more.</summary>
    public IReadOnlyList<string> ChannelsOut { get; init; } = [];

    /// <summary>Channels that may be used; empty for any.</summary>
    public IReadOnlyList<string> KnownChannels { get; init; } = [];

    /// <summary>Whether it can neither be dropped nor be replaced.</summary>
    public bool? Locked { get; init; }

    /// <summary>Whether it is held back.</summary>
    public bool? Held { get; init; }

    /// <summary>The day from which on it is retired.</summary>
    public DateOnly? Retires { get; init; }

    /// <summary>Whether it is not to be retired.</summary>
    public bool NeverRetires { get; init; }

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }
}

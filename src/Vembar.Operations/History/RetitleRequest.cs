namespace Vembar.Operations.History;

/// <summary>What to change of an image's record; null leaves it.</summary>
public sealed record RetitleRequest
{
    /// <summary>The image.</summary>
    public required ImageReference Image { get; init; }

    /// <summary>The new name.</summary>
    public string? Name { get; init; }

    /// <summary>The new version.</summary>
    public string? Version { get; init; }

    /// <summary>The new edition.</summary>
    public string? Edition { get; init; }

    /// <summary>The new remark.</summary>
    public string? Note { get; init; }

    /// <summary>Labels to set; an empty text takes one away.</summary>
    public IReadOnlyDictionary<string, string> Labels { get; init; } = new Dictionary<string, string>();

    /// <summary>How long to wait for another writer.</summary>
    public TimeSpan Wait { get; init; }
}

using System.Text.Json.Serialization;
using Vembar.Store.Hashing;

namespace Vembar.Images.Records;

/// <summary>Where an image comes from.</summary>
public sealed record ImageOrigin
{
    /// <summary>"folder", "volume" or "image".</summary>
    public required string Kind { get; init; }

    /// <summary>The path, or the archive and number it was made from.</summary>
    public required string From { get; init; }

    /// <summary>What tells the source from others at the same path; empty when nothing does.</summary>
    public string Identity { get; init; } = "";

    /// <summary>The version of the program that made it.</summary>
    public string Program { get; init; } = "";

    /// <summary>When the source was begun to be read, UTC; servicing leaves it. Null for images that were not read from a source, or
    /// before this was noted.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public DateTime? Read { get; init; }

    /// <summary>
    /// By the source's own clock, UTC: what was last changed before this time was read as it is, and what is changed later has a later
    /// time. Null where that cannot be told.
    /// </summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public DateTime? ChangedBefore { get; init; }

    /// <summary>The root of the tree as it was read; servicing leaves it.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public ChunkId? Root { get; init; }
}

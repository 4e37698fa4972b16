using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Compaction;
using Vembar.Core.Content;

namespace Vembar.Core.Archives;

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

/// <summary>Which work order an image was serviced by.</summary>
/// <param name="File">The file's name.</param>
/// <param name="Title">What it says of itself; may be empty.</param>
/// <param name="Hash">BLAKE3 of the file, as b3sum prints.</param>
/// <param name="Variables">Its variables with the texts that they had; null when it has none.</param>
public sealed record OrderOrigin(string File, string Title, ChunkId Hash, IReadOnlyDictionary<string, string>? Variables);

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

    /// <summary>When the source was begun to be read, UTC; servicing leaves it. Null for images that were not read from a source, or before this was noted.</summary>
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

/// <summary>What an archive keeps of an image beside its tree.</summary>
public sealed record ImageRecord
{
    /// <summary>The image's number; given once.</summary>
    public required int Number { get; init; }

    /// <summary>The image's name; no other image of the archive has it (compared without case).</summary>
    public required string Name { get; init; }

    /// <summary>The organisation's version of it; may be empty.</summary>
    public string Version { get; init; } = "";

    /// <summary>The edition: the install's own, or as given.</summary>
    public string Edition { get; init; } = "";

    /// <summary>A remark; may be empty.</summary>
    public string Note { get; init; } = "";

    /// <summary>Labels of the organisation.</summary>
    public IReadOnlyDictionary<string, string> Labels { get; init; } = new Dictionary<string, string>();

    /// <summary>The Windows product; empty when the image holds no Windows.</summary>
    public string Product { get; init; } = "";

    /// <summary>Build with update revision ("26100.1742"); empty when unknown.</summary>
    public string Build { get; init; } = "";

    /// <summary>x64, arm64 or x86; empty when unknown.</summary>
    public string Architecture { get; init; } = "";

    /// <summary>Languages as in "en-GB".</summary>
    public IReadOnlyList<string> Languages { get; init; } = [];

    /// <summary>The computer name in the install; empty when unknown.</summary>
    public string ComputerName { get; init; } = "";

    /// <summary>Whether the install was generalized: its state in Vembar's words; empty when unknown.</summary>
    public string State { get; init; } = "";

    /// <summary>When it was made, UTC; for a capture, when reading began.</summary>
    public required DateTime Created { get; init; }

    /// <summary>The hash of its root node, which stands for all of it.</summary>
    public required ChunkId Root { get; init; }

    /// <summary>Files (each name counts) and links.</summary>
    public long Files { get; init; }

    /// <summary>Folders, the root included.</summary>
    public long Folders { get; init; }

    /// <summary>Bytes of all its files; hard-linked content counts once.</summary>
    public long Bytes { get; init; }

    /// <summary>Bytes that the archive grew by when it was added.</summary>
    public long BytesAdded { get; init; }

    /// <summary>Where it comes from.</summary>
    public required ImageOrigin Origin { get; init; }

    /// <summary>What was done to make it, oldest first.</summary>
    public IReadOnlyList<HistoryEntry> History { get; init; } = [];

    /// <summary>What the readiness checks found when it was captured; the worst first.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<Windows.Finding>? Findings { get; init; }

    /// <summary>Files that the source's volume kept compacted when it was captured; null for none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public CompactedCount? Compacted { get; init; }

    /// <summary>Drivers that were let in although nobody trusted signed them.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<UnsignedDriver>? UnsignedDrivers { get; init; }

    /// <summary>Members that a newer program wrote; kept as they are.</summary>
    [JsonExtensionData]
    public Dictionary<string, JsonElement>? Further { get; set; }
}

/// <summary>A driver that was let in although nobody trusted signed it.</summary>
/// <param name="Inf">The name that it was published under, or the folder that it lies in.</param>
/// <param name="OriginalInf">Its INF's own name.</param>
/// <param name="State">unsigned, wrong-hash, bad-signature, expired, untrusted or bad-catalog.</param>
/// <param name="Why">What was found.</param>
public sealed record UnsignedDriver(string Inf, string OriginalInf, string State, string Why);

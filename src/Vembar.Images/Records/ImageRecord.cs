using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Store.Hashing;

namespace Vembar.Images.Records;

/// <summary>What an archive keeps of an image beside its tree.</summary>
public sealed record ImageRecord
{
    /// <summary>The image's number; given once.</summary>
    public required int Number { get; init; }

    /// <summary>The image's name; images of one name (compared without case) are its versions.</summary>
    public required string Name { get; init; }

    /// <summary>The organisation's version of it; may be empty. No other image of the name has it (compared without case).</summary>
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
    public IReadOnlyList<Finding>? Findings { get; init; }

    /// <summary>Files that the source's volume kept compacted when it was captured; null for none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public CompactedCount? Compacted { get; init; }

    /// <summary>Drivers that were let in although nobody trusted signed them.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<UnsignedDriver>? UnsignedDrivers { get; init; }

    /// <summary>Whether it can neither be dropped nor be replaced.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool Locked { get; init; }

    /// <summary>Whether it is held back: not given to those who ask for the newest version of its name.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool Held { get; init; }

    /// <summary>The day from which on it is retired; null for never.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public DateOnly? Retires { get; init; }

    /// <summary>The channels that point at it. They are kept with the list of images, not in the record.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<string>? Channels { get; init; }

    /// <summary>How the install can start; null when it is not known, or the image holds no Windows.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public ImageFirmware? Firmware { get; init; }

    /// <summary>Whether it was generalized for the same virtual hardware alone; null where that cannot be told.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool? VirtualOnly { get; init; }

    /// <summary>Hardware models that it was given drivers for.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<string>? Models { get; init; }

    /// <summary>Signatures of its statement, the oldest first; null for none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public IReadOnlyList<ImageSignature>? Signatures { get; init; }

    /// <summary>Whose files it holds; null for an image of an install.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public KeptFiles? UserFiles { get; init; }

    /// <summary>Name and version, as people say it.</summary>
    [JsonIgnore]
    public string Title => Version.Length > 0 ? $"\"{Name}\" {Version}" : $"\"{Name}\"";

    /// <summary>Whether it is given to those who ask for the newest version of its name.</summary>
    /// <param name="today">The day it is asked for.</param>
    public bool IsOffered(DateOnly today) => !Held && !IsRetired(today);

    /// <summary>Whether it is retired.</summary>
    /// <param name="today">The day it is asked for.</param>
    public bool IsRetired(DateOnly today) => Retires is { } day && day <= today;

    /// <summary>Members that a newer program wrote; kept as they are.</summary>
    [JsonExtensionData]
    public Dictionary<string, JsonElement>? Further { get; set; }
}

using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Store.Hashing;

namespace Vembar.Store.Format;

/// <summary>The list of images that a commit names, as it is stored: whole, or as what is other than in an earlier one.
/// docs/archive-format.md.</summary>
internal sealed record Catalogue
{
    public int NextNumber { get; init; } = 1;

    /// <summary>What made this state ("capture 2 Reading room").</summary>
    public string Change { get; init; } = "";

    /// <summary>Who made it ("user@host"); empty where nobody said, as in archives that were made before this was noted.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? By { get; init; }

    /// <summary>Channels, each with the image that it points at; always all of them. Null for none.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<ChannelEntry>? Channels { get; init; }

    /// <summary>The catalogue that this one is a change of; null for one that is whole.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public ChunkId? Since { get; init; }

    /// <summary>The numbers of images that are in the earlier one and not in this one.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<int>? Gone { get; init; }

    /// <summary>The images; of a change, those that are new or have another record.</summary>
    public IReadOnlyList<CatalogueEntry> Images { get; init; } = [];

    /// <summary>How many entries the changes down to the last whole catalogue have together; not stored.</summary>
    [JsonIgnore]
    public int Changes { get; init; }

    [JsonExtensionData]
    public Dictionary<string, JsonElement>? Further { get; set; }

    /// <summary>This catalogue as a change of another one, where that is worth it; otherwise as it is.</summary>
    /// <param name="earlier">A whole catalogue.</param>
    /// <param name="id">Its chunk.</param>
    public Catalogue AsChangeOf(Catalogue earlier, ChunkId id)
    {
        // So that a catalogue costs what is new in it, and reading one never means reading many times what it holds.
        const int AtLeast = 16;
        var before = earlier.Images.ToDictionary(i => i.Number, i => i.Record);
        var changed = Images.Where(i => !before.TryGetValue(i.Number, out var record) || record != i.Record).ToList();
        var now = Images.Select(i => i.Number).ToHashSet();
        var gone = before.Keys.Where(n => !now.Contains(n)).Order().ToList();
        return earlier.Changes + changed.Count + gone.Count + 1 > Math.Max(AtLeast, Images.Count / 4)
            ? this : this with { Since = id, Images = changed, Gone = gone.Count > 0 ? gone : null };
    }

    /// <summary>The whole catalogue that a change makes of another one.</summary>
    /// <param name="earlier">The whole catalogue that it names.</param>
    public Catalogue On(Catalogue earlier)
    {
        var images = earlier.Images.ToDictionary(i => i.Number);
        foreach (var number in Gone ?? [])
            images.Remove(number);
        foreach (var image in Images)
            images[image.Number] = image;
        return this with
        {
            Since = null,
            Gone = null,
            Images = [.. images.Values.OrderBy(i => i.Number)],
            Changes = earlier.Changes + Images.Count + (Gone?.Count ?? 0) + 1,
        };
    }
}

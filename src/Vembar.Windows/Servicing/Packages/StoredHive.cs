using Vembar.Images.Nodes;
using Vembar.Store.Hashing;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>A hive as it was before, as the archive holds it.</summary>
internal sealed record StoredHive(string Hive, long Length, ChunkId Hash, ChunkId List, IReadOnlyList<StoredPart>? Parts, long? Time,
    byte TimeRest)
{
    public static StoredHive Of(string hive, FileContent content, FileTime? modified) =>
        new(hive, content.Length, content.Hash, content.List,
        content.Parts?.Select(p => new StoredPart(p.IsHole, p.IsHole ? default : p.Id, p.Length)).ToList(), modified?.Ticks,
        modified?.Rest ?? 0);

    public FileContent Content =>
        Parts is null ? new FileContent(Length, Hash, List)
        : new FileContent(Length, Hash, [.. Parts.Select(p => new ContentPart(p.Hole ? default : p.Id, p.Length))]);

    public FileTime? Modified => Time is { } ticks ? new FileTime(ticks, TimeRest) : null;
}

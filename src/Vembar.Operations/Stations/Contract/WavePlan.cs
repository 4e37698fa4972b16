namespace Vembar.Operations.Stations.Contract;

/// <summary>What a wave sends, in that order. What stands in it is known to be the station's, so a datagram of somebody else is told by
/// it.</summary>
/// <param name="Pieces">The parts; none overlaps another.</param>
/// <param name="Again">So many of the first are looked at again afterwards: index and folders.</param>
public sealed record WavePlan(IReadOnlyList<WavePiece> Pieces, int Again)
{
    /// <summary>How much that is together, in bytes.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public long Bytes => Pieces.Sum(p => (long)p.Length);
}

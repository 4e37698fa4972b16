namespace Vembar.Operations.Report;

/// <summary>How much content images have in common, in bytes before compression; made by <see cref="ContentComparison"/>.</summary>
public sealed class ContentSharing
{
    private readonly long[,] _shared;

    internal ContentSharing(long[,] shared, long[] own, long distinct)
    {
        _shared = shared;
        Own = own;
        Distinct = distinct;
    }

    /// <summary>What two images have in common, by their places in the list; of one with itself, all that it holds.</summary>
    public long Between(int one, int other) => _shared[one, other];

    /// <summary>What each image has that no other has.</summary>
    public IReadOnlyList<long> Own { get; }

    /// <summary>All content, each piece once.</summary>
    public long Distinct { get; }

    /// <summary>What all images would hold if each held its own.</summary>
    public long Total => Enumerable.Range(0, Own.Count).Sum(i => _shared[i, i]);
}

namespace Vembar.Volumes.Targets;

/// <summary>Counts what a target could not keep of the entries that are written; by several threads at once.</summary>
internal sealed class UnsupportedFeatures
{
    private readonly Dictionary<string, long> _counts = [];
    private readonly Lock _gate = new();

    /// <summary>What could not be kept, each with how many entries it concerns.</summary>
    public IReadOnlyDictionary<string, long> Counts => _counts;

    /// <summary>Counts one entry.</summary>
    /// <param name="what">What of it cannot be kept.</param>
    public void Record(string what)
    {
        lock (_gate)
            _counts[what] = _counts.GetValueOrDefault(what) + 1;
    }
}

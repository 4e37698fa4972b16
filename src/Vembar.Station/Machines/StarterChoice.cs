using System.Collections.Concurrent;
using Vembar.Common;
using Vembar.Operations.Starters;
using Vembar.Station.Hosting;

namespace Vembar.Station.Machines;

/// <summary>Which starter a machine gets: that of its channel, or the last with which machines joined where that one does not
/// report.</summary>
public sealed class StarterChoice(StationSettings settings, TimeProvider clock)
{
    private const int MostKept = 5000;
    // By network addresses: the starter that a machine was handed and has not joined with, and since when.
    private readonly ConcurrentDictionary<string, (string Version, DateTimeOffset Since)> _handed = new();
    private readonly ConcurrentDictionary<string, string> _joined = new();

    private BootOptions Boot => settings.Options.Boot;

    /// <summary>Network addresses that were handed a starter which has not reported.</summary>
    public IReadOnlyCollection<string> Open => [.. _handed.Keys];

    /// <summary>The starters that there are, the newest last, and which are in use.</summary>
    /// <exception cref="VembarException">There is none, or one is not whole.</exception>
    public (IReadOnlyList<Starter> All, StarterChannels Channels) Starters()
    {
        // Boot loaders ask for them by the names of their folders.
        if (settings.Options.Starters is not { } folder || !Directory.Exists(folder)
            || Starter.All(folder).Where(s => StationFile.IsName(Path.GetFileName(s.Folder.TrimEnd('/')))).ToList()
                is not { Count: > 0 } all)
            throw VembarException.Input("no-starter", $"the station has no starter in '{settings.Options.Starters}'",
                "Make one with `vembar starter make`, in a folder below that.");
        return (all, StarterChannels.Read(folder));
    }

    /// <summary>Whether a word names a channel, or a version that is there.</summary>
    public bool IsKnown(string named)
    {
        if (named is StarterChannels.ProductionName or StarterChannels.PilotName)
            return true;
        try
        {
            return Starters().All.Any(s => s.Manifest.Version == named);
        }
        catch (VembarException)
        {
            return false;
        }
    }

    /// <summary>The starter of machines of which nothing else was said.</summary>
    /// <exception cref="VembarException">There is none.</exception>
    public Starter Usual()
    {
        var (all, channels) = Starters();
        return channels.Find(all, "") ?? throw VembarException.Input("no-starter",
            $"the starter {channels.Production}, which is in use, is not in '{settings.Options.Starters}'",
            "Put another into use with `vembar starter use`.");
    }

    /// <summary>The starter that a machine gets.</summary>
    /// <param name="row">What is known of it; null for a machine that was never seen.</param>
    /// <param name="address">Its network address; may be empty.</param>
    /// <param name="machines">All machines, by which is known what reports.</param>
    /// <returns>The starter; and the version that was meant and does not report, or null.</returns>
    /// <exception cref="VembarException">There is none.</exception>
    public (Starter Starter, string? Silent) For(MachineRow? row, string address, IReadOnlyList<MachineRow> machines)
    {
        var (all, channels) = Starters();
        var usual = Usual();
        var named = row?.Document.Assignment is { } assignment
            ? assignment.Starter.Length > 0 ? assignment.Starter
                : Boot.PilotSites.Contains(assignment.Site, StringComparer.OrdinalIgnoreCase) ? StarterChannels.PilotName : ""
            : "";
        var meant = channels.Find(all, named) ?? usual;
        if (!_handed.TryGetValue(address, out var handed) || handed.Version != meant.Manifest.Version
            || clock.GetUtcNow() - handed.Since < Boot.ReportWithin)
            return (meant, null);
        // Those that machines joined with: its own first, then the newest.
        var good = machines.Select(m => m.Document.Report?.Starter ?? "").Concat(_joined.Values).ToHashSet();
        var last = all.LastOrDefault(s => s != meant && s.Manifest.Version == row?.Document.Report?.Starter)
            ?? all.LastOrDefault(s => s != meant && good.Contains(s.Manifest.Version));
        return last is null ? (meant, null) : (last, meant.Manifest.Version);
    }

    /// <summary>A machine was handed the starter that it is meant to have.</summary>
    public void Hand(string address, string version)
    {
        if (address.Length == 0)
            return;
        if (_handed.Count > MostKept)
            _handed.Clear();
        if (!_handed.TryGetValue(address, out var before) || before.Version != version)
            _handed[address] = (version, clock.GetUtcNow());
    }

    /// <summary>A machine joined.</summary>
    /// <param name="addresses">Its network addresses.</param>
    /// <param name="version">The starter that it runs; empty for none.</param>
    public void Join(IEnumerable<string> addresses, string version)
    {
        if (version.Length == 0)
            return;
        foreach (var address in addresses.Select(a => a.ToLowerInvariant()))
        {
            if (_handed.TryGetValue(address, out var handed) && handed.Version == version)
                _handed.TryRemove(address, out _);
            if (_joined.Count < MostKept)
                _joined[address] = version;
        }
    }
}

using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Station.Machines;

/// <summary>Tells which hardware model a machine is.</summary>
public static class ModelFinder
{
    /// <summary>The profile whose model the firmware names, else the one that shares most of its devices with the machine, if that is
    /// most of them; what the firmware says where there is none.</summary>
    public static (string Model, HardwareProfile? Profile) Find(IReadOnlyList<HardwareProfile> profiles, MachineReport machine)
    {
        var said = $"{machine.Identity.Vendor} {machine.Identity.Product}".Trim();
        var named = profiles.Where(p => p.Model.Length > 0 && (said.Equals(p.Model, StringComparison.OrdinalIgnoreCase)
            || machine.Identity.Product.Equals(p.Model, StringComparison.OrdinalIgnoreCase)
            || said.Contains(p.Model, StringComparison.OrdinalIgnoreCase))).MaxBy(p => p.Model.Length);
        if (named is not null)
            return (named.Model, named);
        var ids = machine.Devices.SelectMany(d => d.HardwareIds.Concat(d.CompatibleIds)).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var best = profiles.Select(p => (Profile: p, Shared: p.Devices.Count(d => d.HardwareIds.Concat(d.CompatibleIds).Any(ids.Contains))))
            .Where(p => p.Shared * 2 > p.Profile.Devices.Count).OrderByDescending(p => p.Shared).FirstOrDefault();
        return best.Profile is { } profile ? (profile.Model, profile) : (said, null);
    }

    /// <summary>The machine's devices, with what the model's profile says of them: what people call them, and which are needed.</summary>
    public static MachineReport WithProfile(MachineReport machine, HardwareProfile? profile)
    {
        if (profile is null)
            return machine;
        var known = new Dictionary<string, HardwareDevice>(StringComparer.OrdinalIgnoreCase);
        foreach (var device in profile.Devices)
        {
            foreach (var id in device.HardwareIds.Concat(device.CompatibleIds))
                known.TryAdd(id, device);
        }
        return machine with
        {
            Devices = [.. machine.Devices.Select(d => d.HardwareIds.Select(id => known.GetValueOrDefault(id))
            .FirstOrDefault(k => k is not null)
                is { } said ? d with { Name = said.Name, Needed = d.Needed || said.Needed, Boot = d.Boot || said.Boot } : d)],
        };
    }
}

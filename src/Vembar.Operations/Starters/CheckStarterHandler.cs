using Vembar.Common;
using Vembar.Windows.Servicing.Drivers;

namespace Vembar.Operations.Starters;

/// <summary>Says which devices of models a starter has modules for.</summary>
public sealed class CheckStarterHandler : IOperationHandler<CheckStarterRequest, CheckStarterResult>
{
    /// <summary>Looks.</summary>
    /// <exception cref="VembarException">There is no starter, or a profile is not one.</exception>
    public Task<CheckStarterResult> HandleAsync(CheckStarterRequest request, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var profiles = HardwareProfile.ReadAll(request.Profiles);
        var starter = Starter.Read(request.Folder);
        var drivers = ModuleAliases.Read(Path.Combine(request.Folder, StarterManifest.AliasFile));
        var has = starter.Manifest.Firmware.ToHashSet(StringComparer.Ordinal);
        return Task.FromResult(new CheckStarterResult(starter, [.. profiles.SelectMany(p => p.Devices.Select(d =>
        {
            var modules = HardwareAlias.Of([.. d.HardwareIds, .. d.CompatibleIds]).SelectMany(drivers.For).Distinct()
                .Order(StringComparer.Ordinal).ToList();
            var lacking = modules.SelectMany(m => starter.Manifest.FirmwareOf.GetValueOrDefault(m, [])).Where(f => !has.Contains(f))
                .ToList();
            return new StarterDevice(p.Model, d.Name, KindOf(d), modules, lacking);
        }))]));
    }

    // By its class (PCI Code and ID Assignment Specification: 01 stores, 02 is a network's); what Windows starts from stores.
    private static string KindOf(HardwareDevice device)
    {
        bool Is(string code) =>
            device.HardwareIds.Concat(device.CompatibleIds).Any(i => i.Contains($"CC_{code}", StringComparison.OrdinalIgnoreCase)
            || i.Contains($"USB\\Class_{code}", StringComparison.OrdinalIgnoreCase));
        return device.Boot || Is("01") ? "storage" : Is("02") ? "network" : "other";
    }
}

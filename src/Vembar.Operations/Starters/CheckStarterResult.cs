namespace Vembar.Operations.Starters;

/// <summary>What a starter has for the devices of models.</summary>
/// <param name="Starter">The starter.</param>
/// <param name="Devices">The devices, by model.</param>
public sealed record CheckStarterResult(Starter Starter, IReadOnlyList<StarterDevice> Devices)
{
    /// <summary>Whether each storage and network device has a module.</summary>
    public bool IsInOrder => Devices.All(d => !d.IsMissing);
}

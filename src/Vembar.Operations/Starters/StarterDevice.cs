namespace Vembar.Operations.Starters;

/// <summary>What a starter has for a device of a model.</summary>
/// <param name="Model">The model.</param>
/// <param name="Device">The device.</param>
/// <param name="Kind">"storage", "network" or "other".</param>
/// <param name="Modules">Modules that drive it; none where the starter has none.</param>
/// <param name="Firmware">Files of firmware that these may ask for and the starter lacks.</param>
public sealed record StarterDevice(string Model, string Device, string Kind, IReadOnlyList<string> Modules, IReadOnlyList<string> Firmware)
{
    /// <summary>Whether a machine of the model cannot be deployed for want of it.</summary>
    public bool IsMissing => Kind != "other" && Modules.Count == 0;
}

namespace Vembar.Operations.Stations.Contract;

/// <summary>Who a machine is, as its firmware and network adapters say.</summary>
public sealed record MachineIdentity
{
    /// <summary>SMBIOS UUID, lower case with hyphens; empty where the firmware has none.</summary>
    public string Uuid { get; init; } = "";

    /// <summary>The vendor's serial number; may be empty.</summary>
    public string Serial { get; init; } = "";

    /// <summary>The vendor as the firmware names it; may be empty.</summary>
    public string Vendor { get; init; } = "";

    /// <summary>The product as the firmware names it; may be empty.</summary>
    public string Product { get; init; } = "";

    /// <summary>Addresses of network adapters, lower case with colons.</summary>
    public IReadOnlyList<string> Addresses { get; init; } = [];
}

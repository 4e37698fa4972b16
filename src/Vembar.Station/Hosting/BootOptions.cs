namespace Vembar.Station.Hosting;

/// <summary>How machines start from the network: `boot:` in station.yaml. docs/netboot.md.</summary>
public sealed record BootOptions
{
    /// <summary>The port of the plain HTTP server where nothing else is said; it serves starters alone.</summary>
    public const int UsualPort = 8471;

    /// <summary>Whether, and how.</summary>
    public BootMode Mode { get; init; }

    /// <summary>The network interface that machines are at.</summary>
    public string Interface { get; init; } = "";

    /// <summary>The station's IPv4 address at it.</summary>
    public string Address { get; init; } = "";

    /// <summary>Addresses that are given out, FIRST-LAST; for <see cref="BootMode.Full"/>.</summary>
    public (string First, string Last)? Range { get; init; }

    /// <summary>The port of the plain HTTP server.</summary>
    public int Port { get; init; } = UsualPort;

    /// <summary>Whether machines with UEFI are handed the signed boot loaders, which secure boot takes: they fetch from the server that
    /// gave the address, so as <see cref="BootMode.Proxy"/> the other server has to name the station as the next one.</summary>
    public bool Signed { get; init; } = true;

    /// <summary>Sites whose machines get the starter that is tried.</summary>
    public IReadOnlyList<string> PilotSites { get; init; } = [];

    /// <summary>How long a machine that was handed a starter has until it joins; then it is handed one with which machines did.</summary>
    public TimeSpan ReportWithin { get; init; } = TimeSpan.FromMinutes(10);

    /// <summary>What else stands on the kernel's command line.</summary>
    public string Arguments { get; init; } = "";
}

namespace Vembar.Station.Hosting;

/// <summary>How waves are sent.</summary>
public sealed record WaveOptions
{
    /// <summary>The group that they are sent to, where none is named: of those that are an organisation's own (RFC 2365).</summary>
    public const string UsualGroup = "239.255.84.70";

    /// <summary>The group's address, IPv4 or IPv6.</summary>
    public string Group { get; init; } = UsualGroup;

    /// <summary>The first of the ports that they are sent to; each wave has one of its own.</summary>
    public int Port { get; init; } = 8480;

    /// <summary>The network interface that they are sent by; empty for the one that machines start from, or what the system
    /// chooses.</summary>
    public string Interface { get; init; } = "";

    /// <summary>How fast they are sent, in bits a second.</summary>
    public long Rate { get; init; } = 300_000_000;

    /// <summary>Over how many routers they go, and one.</summary>
    public int Hops { get; init; } = 1;
}

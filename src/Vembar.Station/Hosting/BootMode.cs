namespace Vembar.Station.Hosting;

/// <summary>Whether machines start from the network by the station.</summary>
public enum BootMode
{
    /// <summary>Not.</summary>
    Off,

    /// <summary>Beside a DHCP server that gives out the addresses.</summary>
    Proxy,

    /// <summary>With addresses of a range of the station's own.</summary>
    Full,
}

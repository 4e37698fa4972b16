using System.Globalization;
using System.Net;

namespace Vembar.Station.Hosting;

/// <summary>Where a station listens.</summary>
/// <param name="Address">The address; null for all of the machine's.</param>
/// <param name="Port">The port; 0 for one that is free.</param>
public sealed record ListenAddress(IPAddress? Address, int Port)
{
    /// <summary>Reads HOST:PORT, [HOST]:PORT or *:PORT.</summary>
    /// <returns>Null where it is none of them.</returns>
    public static ListenAddress? Parse(string text)
    {
        var at = text.LastIndexOf(':');
        if (at <= 0 || !ushort.TryParse(text.AsSpan(at + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var port))
            return null;
        var host = text[..at].Trim('[', ']');
        if (host == "*")
            return new ListenAddress(null, port);
        return IPAddress.TryParse(host, out var address) ? new ListenAddress(address, port)
            : host == "localhost" ? new ListenAddress(IPAddress.Loopback, port) : null;
    }
}

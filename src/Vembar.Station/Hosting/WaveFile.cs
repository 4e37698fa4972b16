using System.Globalization;
using System.Net;
using System.Net.Sockets;
using Vembar.Common.Formats;
using YamlDotNet.RepresentationModel;

namespace Vembar.Station.Hosting;

/// <summary>Reads `waves:` of station.yaml.</summary>
internal static class WaveFile
{
    private const int Ports = 100;

    /// <summary>What stands there; mistakes are kept with their lines.</summary>
    /// <param name="yaml">The file.</param>
    /// <param name="node">What stands at `waves`; null for nothing.</param>
    /// <param name="boot">How machines start from the network.</param>
    public static WaveOptions Read(YamlFile yaml, YamlNode? node, BootOptions boot)
    {
        var usual = new WaveOptions { Interface = boot.Interface };
        if (node is null || yaml.Fields(node, "group", "port", "interface", "rate", "hops") is not { } fields)
            return usual;
        var group = fields.GetValueOrDefault("group", usual.Group);
        if (!IPAddress.TryParse(group, out var address) || !IsMulticast(address))
            yaml.Wrong(node, $"'{group}' is no address of a group: 239.0.0.0 to 239.255.255.255, or one that begins with ff");
        int Number(string key, int otherwise, int most)
        {
            if (!fields.TryGetValue(key, out var text))
                return otherwise;
            if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number is > 0 && number <= most)
                return number;
            yaml.Wrong(node, string.Create(CultureInfo.InvariantCulture, $"'{text}' is no {key}: 1 to {most}"));
            return otherwise;
        }
        var rate = usual.Rate;
        if (fields.TryGetValue("rate", out var said) && !TryRate(said, out rate))
            yaml.Wrong(node, $"'{said}' is no rate: write for instance \"300 Mbit/s\"");
        return new WaveOptions
        {
            Group = group,
            Port = Number("port", usual.Port, ushort.MaxValue - Ports),
            Interface = fields.GetValueOrDefault("interface", usual.Interface),
            Rate = rate,
            Hops = Number("hops", usual.Hops, byte.MaxValue),
        };
    }

    private static bool IsMulticast(IPAddress address) => address.AddressFamily == AddressFamily.InterNetworkV6
        ? address.IsIPv6Multicast : address.GetAddressBytes()[0] is >= 224 and < 240;

    private static bool TryRate(string text, out long rate) => Operations.Waves.BitRate.TryParse(text, out rate);
}

using System.Globalization;
using System.Net;
using System.Net.Sockets;
using Vembar.Common.Formats;
using YamlDotNet.RepresentationModel;

namespace Vembar.Station.Hosting;

/// <summary>Reads `boot:` of station.yaml.</summary>
internal static class BootFile
{
    /// <summary>What stands there; mistakes are kept with their lines.</summary>
    /// <param name="yaml">The file.</param>
    /// <param name="node">What stands at `boot`; null for nothing.</param>
    public static BootOptions Read(YamlFile yaml, YamlNode? node)
    {
        if (node is null || node is YamlScalarNode { Value: "off" })
            return new BootOptions();
        if (yaml.Fields(node, "mode", "interface", "address", "range", "port", "arguments", "pilot-sites",
            "report-within", "signed") is not { } fields)
            return new BootOptions();
        var mode = fields.GetValueOrDefault("mode", "off") switch
        {
            "off" => BootMode.Off,
            "proxy" => BootMode.Proxy,
            "full" => BootMode.Full,
            var other => Wrong(yaml, node, $"'{other}' is not one of off, proxy, full", BootMode.Off),
        };
        if (mode == BootMode.Off)
            return new BootOptions();
        var name = fields.GetValueOrDefault("interface", "");
        if (name.Length is 0 or > 15 || name.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('.' or '-' or '_' or '@')))
            yaml.Wrong(node, "'interface' names the network interface that machines are at");
        var address = fields.GetValueOrDefault("address", "");
        if (!IsIpv4(address))
            yaml.Wrong(node, "'address' is the station's IPv4 address at that interface");
        (string, string)? range = null;
        if (mode == BootMode.Full)
        {
            if (fields.GetValueOrDefault("range", "").Split('-', StringSplitOptions.TrimEntries) is [var first, var last] && IsIpv4(first)
                && IsIpv4(last))
                range = (first, last);
            else
                yaml.Wrong(node, "'range' is the addresses that are given out: FIRST-LAST");
        }
        var port = BootOptions.UsualPort;
        if (fields.TryGetValue("port", out var text) && (!int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out port)
            || port is 0 or > 65535))
            yaml.Wrong(node, $"'{text}' is no port");
        var arguments = fields.GetValueOrDefault("arguments", "");
        if (arguments.Any(c => char.IsControl(c) || c is '$' or '`' or ';' or '{' or '}'))
            yaml.Wrong(node, "'arguments' is one line for the kernel, without $ ` ; { }");
        var within = new BootOptions().ReportWithin;
        if (fields.TryGetValue("report-within", out var time) && !YamlTime.TryParse(time, out within))
            yaml.Wrong(node, $"'{time}' is no time within which machines join: write for instance \"10 min\"");
        var signed = fields.GetValueOrDefault("signed", mode == BootMode.Full ? "yes" : "no");
        if (signed is not ("yes" or "no" or "true" or "false"))
            yaml.Wrong(node, $"'signed' is yes or no, not '{signed}'");
        return new BootOptions
        {
            Signed = signed is "yes" or "true",
            PilotSites = fields.GetValueOrDefault("pilot-sites", "")
                .Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries),
            ReportWithin = within,
            Mode = mode,
            Interface = name,
            Address = address,
            Range = range,
            Port = port,
            Arguments = arguments,
        };
    }

    private static BootMode Wrong(YamlFile yaml, YamlNode node, string problem, BootMode instead)
    {
        yaml.Wrong(node, problem);
        return instead;
    }

    private static bool IsIpv4(string text) => IPAddress.TryParse(text, out var address)
        && address.AddressFamily == AddressFamily.InterNetwork && address.ToString() == text;
}

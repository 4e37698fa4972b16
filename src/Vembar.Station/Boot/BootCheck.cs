using System.Globalization;
using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Vembar.Common;
using Vembar.Operations.Starters;
using Vembar.Station.Hosting;

namespace Vembar.Station.Boot;

/// <summary>Looks what is in the way of machines that start from the network.</summary>
/// <param name="options">How the station runs.</param>
internal sealed class BootCheck(StationOptions options)
{
    private const string InterfaceName = "interface";
    private const int DhcpServer = 67, Tftp = 69, Pxe = 4011;

    private BootOptions Boot => options.Boot;

    /// <summary>Looks.</summary>
    public IReadOnlyList<BootFinding> Run()
    {
        if (Boot.Mode == BootMode.Off)
            return [new("mode", false, "boot is off", "Say `boot: {mode: …}` in station.yaml (docs/netboot.md).")];
        var findings = new List<BootFinding> { Starters(), Program(), Interface() };
        // What a station that runs holds is its own.
        var isRunning = IsRunning();
        if (isRunning)
            findings.Add(new("station", true, "it runs, and has its ports", ""));
        else
            findings.AddRange(new[] { (DhcpServer, "DHCP"), (Tftp, "TFTP"), (Pxe, "PXE") }
                .Where(p => p.Item1 != Pxe || Boot.Mode == BootMode.Proxy).Select(p => Port(p.Item1, p.Item2)));
        findings.Add(ReversePath());
        // Without the interface nobody can be asked.
        if (!isRunning && findings.Single(f => f.What == InterfaceName).IsWell)
            findings.AddRange(Others());
        return findings;
    }

    // It answers boot loaders, here and not elsewhere.
    private bool IsRunning()
    {
        if (!NetworkInterface.GetAllNetworkInterfaces().SelectMany(i => i.GetIPProperties().UnicastAddresses)
            .Any(a => a.Address.ToString() == Boot.Address))
            return false;
        try
        {
            using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(2) };
            using var request = new HttpRequestMessage(HttpMethod.Get, string.Create(CultureInfo.InvariantCulture,
                $"http://{Boot.Address}:{Boot.Port}/boot/start.ipxe"));
            using var answer = client.Send(request);
            using var reader = new StreamReader(answer.Content.ReadAsStream());
            return reader.ReadLine() == "#!ipxe";
        }
        catch (Exception failure) when (failure is HttpRequestException or OperationCanceledException or IOException)
        {
            return false;
        }
    }

    private BootFinding Starters()
    {
        const string Remedy = "Make one with `vembar starter make`, in a folder below `starters:` of station.yaml.";
        try
        {
            return options.Starters is { } folder && Directory.Exists(folder) && Starter.All(folder) is [.., var newest]
                ? newest.Manifest.Loaders.Contains(DnsmasqFile.BiosLoader) && newest.Manifest.Loaders.Contains(DnsmasqFile.UefiLoader)
                ? new("starter", true, $"{newest.Manifest.Name} {newest.Manifest.Version}", "")
                : new("starter", false, $"{newest.Manifest.Name} {newest.Manifest.Version} has no boot loaders", "Make it anew.")
                : new("starter", false, options.Starters is null ? "station.yaml names no folder of starters"
                : $"there is none in '{options.Starters}'", Remedy);
        }
        catch (VembarException problem)
        {
            return new("starter", false, problem.Message, Remedy);
        }
    }

    private static BootFinding Program() =>
        BootService.Program is { } program ? new("dnsmasq", true, program, "")
        : new("dnsmasq", false, "it is not installed", "Install it (Debian: dnsmasq-base).");

    private BootFinding Interface()
    {
        var all = NetworkInterface.GetAllNetworkInterfaces();
        if (all.FirstOrDefault(i => i.Name == Boot.Interface) is not { } found)
            return new(InterfaceName, false, $"there is no '{Boot.Interface}'",
                $"Name one of {string.Join(", ", all.Select(i => i.Name))}.");
        var addresses = found.GetIPProperties().UnicastAddresses.Select(a => a.Address)
            .Where(a => a.AddressFamily == AddressFamily.InterNetwork).Select(a => a.ToString()).ToList();
        return found.OperationalStatus == OperationalStatus.Down ? new(InterfaceName, false, $"'{Boot.Interface}' is down",
            "Bring it up: `ip link set NAME up`, and see whether a cable is in it.")
            : !addresses.Contains(Boot.Address) ? new(InterfaceName, false,
            $"'{Boot.Interface}' has {(addresses.Count > 0 ? string.Join(", ", addresses) : "no address")}, not {Boot.Address}",
            "Give it the address, or say in station.yaml which one it has.")
            : new(InterfaceName, true, $"{Boot.Interface}, {Boot.Address}", "");
    }

    private static BootFinding Port(int port, string what)
    {
        var name = $"{what} port {port}";
        try
        {
            using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Dgram, ProtocolType.Udp);
            socket.Bind(new IPEndPoint(IPAddress.Any, port));
            return new(name, true, "free", "");
        }
        catch (SocketException problem)
        {
            return problem.SocketErrorCode == SocketError.AccessDenied
                ? new(name, false, "this user may not use it", "Run the station as root, or with CAP_NET_BIND_SERVICE.")
                : new(name, false, "another program has it", "`ss -lunp` names it; stop it, or keep it away from this interface.");
        }
    }

    // Answers to broadcasts come with addresses that the strict filter does not expect.
    private BootFinding ReversePath()
    {
        var path = $"/proc/sys/net/ipv4/conf/{Boot.Interface}/rp_filter";
        var value = File.Exists(path) ? File.ReadAllText(path).Trim() : "";
        return value == "1"
            ? new("rp_filter", false, $"{Boot.Interface}: 1 (strict)", $"Set it to 2: `sysctl net.ipv4.conf.{Boot.Interface}"
            + ".rp_filter=2`.") : new("rp_filter", true, value.Length > 0 ? value : "not told", "");
    }

    // A discovery as a machine sends it (RFC 2131), and who answers.
    private List<BootFinding> Others()
    {
        const string What = "other DHCP servers";
        const int Client = 68, Wait = 3000;
        try
        {
            using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Dgram, ProtocolType.Udp);
            socket.EnableBroadcast = true;
            socket.SetSocketOption(SocketOptionLevel.Socket, SocketOptionName.ReuseAddress, true);
            // SO_BINDTODEVICE of Linux.
            socket.SetRawSocketOption(1, 25, System.Text.Encoding.ASCII.GetBytes(Boot.Interface + "\0"));
            socket.Bind(new IPEndPoint(IPAddress.Any, Client));
            socket.ReceiveTimeout = Wait;
            var discovery = Discovery();
            socket.SendTo(discovery, new IPEndPoint(IPAddress.Broadcast, DhcpServer));
            // Whom each names as the next server: siaddr.
            var servers = new SortedDictionary<string, string>(StringComparer.Ordinal);
            var began = Environment.TickCount64;
            var buffer = new byte[2048];
            EndPoint from = new IPEndPoint(IPAddress.Any, 0);
            while (Environment.TickCount64 - began < Wait)
            {
                try
                {
                    var count = socket.ReceiveFrom(buffer, ref from);
                    if (count > 240 && buffer[0] == 2 && buffer.AsSpan(4, 4).SequenceEqual(discovery.AsSpan(4, 4)))
                        servers[((IPEndPoint)from).Address.ToString()] = new IPAddress(buffer.AsSpan(20, 4)).ToString();
                }
                catch (SocketException)
                {
                    break;
                }
            }
            var found = servers.Count == 0 ? "nobody answers" : $"{string.Join(", ", servers.Keys)} answers";
            if (Boot.Mode == BootMode.Full)
                return [new(What, servers.Count == 0, found,
                    servers.Count == 0 ? "" : "Two that give out addresses are in each other's way: use `mode: proxy`.")];
            var findings = new List<BootFinding>
            {
                new(What, servers.Count > 0, found,
                    servers.Count > 0 ? "" : "As proxy, another server gives out the addresses: start it, or use `mode: full`."),
            };
            if (Boot.Signed)
                findings.AddRange(servers.Select(s => Next(s.Key, s.Value)));
            return findings;
        }
        catch (SocketException problem)
        {
            return [new(What, false, $"it cannot be told: {problem.Message}", "Run it as root.")];
        }
    }

    // The signed GRUB fetches from there.
    private BootFinding Next(string server, string next) => next == Boot.Address ? new("next server", true, $"{server} names {next}", "")
        : new("next server", false, $"{server} names {(next == IPAddress.Any.ToString() ? "none" : next)}, not {Boot.Address}",
            $"Have {server} name {Boot.Address} as the next server (siaddr), or say `signed: no`: then secure boot has to be off.");

    private static byte[] Discovery()
    {
        var packet = new byte[300];
        packet[0] = 1;
        packet[1] = 1;
        packet[2] = 6;
        Random.Shared.NextBytes(packet.AsSpan(4, 4));
        // Answers to everybody: this address has none yet.
        packet[10] = 0x80;
        new byte[] { 0x02, 0x56, 0x42, 0x52, 0x00, 0x01 }.CopyTo(packet, 28);
        // The cookie, the kind of message, the kind of client, and the end.
        new byte[] { 99, 130, 83, 99, 53, 1, 1, 60, 9, (byte)'P', (byte)'X', (byte)'E', (byte)'C', (byte)'l', (byte)'i', (byte)'e',
            (byte)'n',
            (byte)'t', 93, 2, 0, 0, 255 }.CopyTo(packet, 236);
        return packet;
    }
}

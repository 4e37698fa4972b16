using System.Globalization;
using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Vembar.Native;
using Vembar.Native.Helpers;

namespace Vembar.Cli.Commands.Demo;

/// <summary>The demo's network: a bridge with the station's address, and a namespace with a cable to it for each machine. Its names and its
/// addresses are those of this process alone, so that several demos run side by side. Without root there is loopback only.</summary>
internal sealed class DemoNetwork : IDisposable
{
    private const string Prefix = "vmbd";
    private const int UsualPort = 8470;
    private static readonly string s_own = string.Create(CultureInfo.InvariantCulture, $"{Prefix}{Environment.ProcessId}");

    private readonly int _machines;
    private readonly string _subnet;

    private DemoNetwork(int machines, bool isThere, string subnet)
    {
        _machines = machines;
        IsThere = isThere;
        _subnet = subnet;
        Port = FreePort(Station);
    }

    /// <summary>Whether there is a network; otherwise all is on loopback.</summary>
    public bool IsThere { get; }

    /// <summary>The bridge's name.</summary>
    public static string Bridge => $"{s_own}b";

    /// <summary>The name for the cable of an emulated machine.</summary>
    public static string Cable => $"{s_own}t";

    /// <summary>The station's address.</summary>
    public string Station => IsThere ? $"{_subnet}1" : "127.0.0.1";

    /// <summary>The station's port: the usual one if it is free.</summary>
    public int Port { get; }

    /// <summary>Addresses for machines that start from the network: FIRST-LAST.</summary>
    public string Range => $"{_subnet}100-{_subnet}120";

    /// <summary>The namespace of a machine, numbered from 1.</summary>
    public static string Space(int number) => string.Create(CultureInfo.InvariantCulture, $"{s_own}m{number}");

    /// <summary>Makes it; what fails leaves loopback.</summary>
    /// <param name="machines">How many machines get a cable.</param>
    public static DemoNetwork Make(int machines)
    {
        if (Posix.UserId != 0)
            return new DemoNetwork(machines, false, "");
        RemoveThoseOfEndedDemos();
        var subnet = FreeSubnet();
        var isThere = Commands(machines, subnet).All(TryIp);
        if (!isThere)
            Remove(machines);
        return new DemoNetwork(machines, isThere, subnet);
    }

    private static IEnumerable<string> Commands(int machines, string subnet)
    {
        yield return $"link add {Bridge} type bridge";
        yield return $"addr add {subnet}1/24 dev {Bridge}";
        yield return $"link set {Bridge} up";
        for (var number = 1; number <= machines; number++)
        {
            var space = Space(number);
            yield return $"netns add {space}";
            yield return $"link add {space} type veth peer name eth0 netns {space}";
            yield return $"link set {space} master {Bridge} up";
            yield return $"-n {space} addr add {subnet}{number + 10}/24 dev eth0";
            yield return $"-n {space} link set eth0 up";
            yield return $"-n {space} link set lo up";
        }
    }

    // One that no card of this machine has an address in.
    private static string FreeSubnet()
    {
        const int Subnets = 250;
        var used = NetworkInterface.GetAllNetworkInterfaces().SelectMany(i => i.GetIPProperties().UnicastAddresses)
            .Select(a => a.Address.ToString()).ToList();
        return Enumerable.Range(Environment.ProcessId, Subnets)
            .Select(n => string.Create(CultureInfo.InvariantCulture, $"10.213.{n % Subnets + 1}."))
            .First(s => !used.Any(a => a.StartsWith(s, StringComparison.Ordinal)));
    }

    private static int FreePort(string address)
    {
        foreach (var port in (int[])[UsualPort, 0])
        {
            try
            {
                using var listener = new TcpListener(IPAddress.Parse(address), port);
                listener.Start();
                return ((IPEndPoint)listener.LocalEndpoint).Port;
            }
            catch (SocketException)
            {
                // Another program has it.
            }
        }
        return UsualPort;
    }

    // Demos that were killed leave theirs; the number in a name is their process.
    private static void RemoveThoseOfEndedDemos()
    {
        var spaces = Directory.Exists("/run/netns") ? Directory.EnumerateFiles("/run/netns", $"{Prefix}*").ToList() : [];
        foreach (var space in spaces.Select(s => Path.GetFileName(s)).Where(IsOfAnEndedProcess))
            TryIp($"netns del {space}");
        foreach (var card in NetworkInterface.GetAllNetworkInterfaces().Select(i => i.Name).Where(IsOfAnEndedProcess))
            TryIp($"link del {card}");
    }

    private static bool IsOfAnEndedProcess(string name)
    {
        if (!name.StartsWith(Prefix, StringComparison.Ordinal))
            return false;
        var number = new string([.. name[Prefix.Length..].TakeWhile(char.IsAsciiDigit)]);
        return number.Length > 0 && !Directory.Exists($"/proc/{number}");
    }

    private static void Remove(int machines)
    {
        for (var number = 1; number <= machines; number++)
            TryIp($"netns del {Space(number)}");
        TryIp($"link del {Bridge}");
    }

    /// <summary>Runs ip(8).</summary>
    /// <returns>Whether it is there and did what it was told.</returns>
    public static bool TryIp(string arguments)
    {
        if (HelperProcess.Find("ip") is not { } program)
            return false;
        using var ip = HelperProcess.Start(new HelperStart(program, arguments.Split(' ')));
        ip.WaitForExit();
        return ip.ExitCode == 0;
    }

    public void Dispose()
    {
        if (IsThere)
            Remove(_machines);
    }
}

using System.Net;

namespace Vembar.Native.Multicast;

/// <summary>Where datagrams to many go.</summary>
/// <param name="Address">The group's address, IPv4 or IPv6.</param>
/// <param name="Port">Its port.</param>
/// <param name="Interface">The network interface that it is reached through; empty for what the system chooses.</param>
public sealed record MulticastGroup(IPAddress Address, int Port, string Interface);

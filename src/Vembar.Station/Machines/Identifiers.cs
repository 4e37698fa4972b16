using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Machines;

/// <summary>What machines are known by.</summary>
public static partial class Identifiers
{
    /// <summary>The identifiers of a machine, the surest first.</summary>
    public static IReadOnlyList<string> Of(MachineIdentity identity) =>
    [
        .. Uuid(identity.Uuid) is { } uuid ? [uuid] : Array.Empty<string>(),
        .. Serial(identity.Serial) is { } serial ? [serial] : Array.Empty<string>(),
        .. identity.Addresses.Select(Address).OfType<string>(),
    ];

    /// <summary>The identifier that a text of a list means; null for none.</summary>
    public static string? Parse(string text) => Uuid(text) ?? Address(text) ?? Serial(text);

    /// <summary>A short name for what is known by an identifier.</summary>
    public static string IdOf(string identifier) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(identifier)))[..8];

    // Boards that were never given a UUID have all zeros, all ones, or the counting one of a sample.
    private static string? Uuid(string text) => Guid.TryParse(text, out var uuid) && uuid != Guid.Empty && uuid != Guid.AllBitsSet
        && uuid != new Guid("03000200-0400-0500-0006-000700080009") ? $"uuid:{uuid:d}" : null;

    private static string? Serial(string text)
    {
        const int Shortest = 3;
        var serial = text.Trim();
        return serial.Length < Shortest || serial.Distinct().Count() == 1 || Placeholder().IsMatch(serial) ? null
            : $"serial:{serial.ToUpperInvariant()}";
    }

    private static string? Address(string text) => MacAddress().IsMatch(text.Trim())
        && text.Trim().ToLowerInvariant().Replace('-', ':') is var address && address is not "00:00:00:00:00:00" and not "ff:ff:ff:ff:ff:ff"
        ? $"mac:{address}" : null;

    [GeneratedRegex("^([0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}$")]
    private static partial Regex MacAddress();

    [GeneratedRegex("^(none|default string|to be filled.*|not specified|not applicable|system serial number|0?123456789.*|n/?a|unknown)$",
        RegexOptions.IgnoreCase)]
    private static partial Regex Placeholder();
}

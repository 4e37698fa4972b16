using System.Globalization;

namespace Vembar.Tests;

/// <summary>A request that a <see cref="TestServer"/> got.</summary>
public sealed record TestRequest(string Method, string Target, IReadOnlyDictionary<string, string> Headers, byte[] Body, int Number)
{
    public string Path => Target.Split('?')[0];

    public string? Header(string name) => Headers.GetValueOrDefault(name);

    /// <summary>The first and last byte that are asked for; null for all.</summary>
    public (long From, long To)? Range =>
        Header("Range") is { } range && range.StartsWith("bytes=", StringComparison.Ordinal)
        && !range.Contains(',', StringComparison.Ordinal)
        && range[6..].Split('-') is [var from, var to]
        ? (long.Parse(from, CultureInfo.InvariantCulture), long.Parse(to, CultureInfo.InvariantCulture)) : null;
}

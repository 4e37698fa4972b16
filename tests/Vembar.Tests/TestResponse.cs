namespace Vembar.Tests;

/// <summary>What a <see cref="TestServer"/> answers.</summary>
public sealed record TestResponse(int Status, byte[]? Body = null, params (string Name, string Value)[] Headers)
{
    /// <summary>After so many bytes of the body the connection breaks off; null for never.</summary>
    public int? CutAfter { get; init; }

    /// <summary>What it says that the length is, where it lies.</summary>
    public long? SaysLength { get; init; }
}

using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>What went wrong, as RFC 9457 has it, with what we add: a code, a hint, further lines.</summary>
public sealed record Problem
{
    /// <summary>The media type.</summary>
    public const string MediaType = "application/problem+json";

    /// <summary>A name for this kind of problem, as an address.</summary>
    public string Type { get; init; } = "about:blank";

    /// <summary>What is wrong, in a line.</summary>
    public string Title { get; init; } = "";

    /// <summary>The status of the answer.</summary>
    public int Status { get; init; }

    /// <summary>A short stable word.</summary>
    public string Code { get; init; } = "";

    /// <summary>What to do; may be empty.</summary>
    public string Hint { get; init; } = "";

    /// <summary>Further lines.</summary>
    public IReadOnlyList<string> Details { get; init; } = [];

    /// <summary>What is in the way of an image, where it is that.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public IReadOnlyList<Refusal>? Refusals { get; init; }
}

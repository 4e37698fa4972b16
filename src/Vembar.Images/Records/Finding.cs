using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

/// <summary>Something that makes an install unfit or unwise to capture.</summary>
/// <param name="Check">What was looked at, a short stable word.</param>
/// <param name="Severity">How much it weighs.</param>
/// <param name="Text">What is wrong.</param>
/// <param name="Found">The value that was found, and where.</param>
/// <param name="Remedy">What to do.</param>
public sealed record Finding(string Check, Severity Severity, string Text, string Found,
    [property: JsonPropertyName("mend")] string Remedy);

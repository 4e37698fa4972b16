using System.Text.Json.Serialization;

namespace Vembar.Images.Records;

/// <summary>How much a finding weighs.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<Severity>))]
public enum Severity
{
    /// <summary>To be known.</summary>
    [JsonStringEnumMemberName("note")]
    Note,
    /// <summary>Unwise to capture.</summary>
    [JsonStringEnumMemberName("warn")]
    Warn,
    /// <summary>Not to be captured.</summary>
    [JsonStringEnumMemberName("stop")]
    Stop,
}

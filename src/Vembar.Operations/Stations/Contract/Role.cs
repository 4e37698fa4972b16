using System.Text.Json.Serialization;

namespace Vembar.Operations.Stations.Contract;

/// <summary>What somebody may do at a station; each may what those before may.</summary>
[JsonConverter(typeof(JsonStringEnumConverter<Role>))]
public enum Role
{
    /// <summary>Look, and read archives.</summary>
    [JsonStringEnumMemberName("viewer")]
    Viewer,
    /// <summary>Approve machines and give them images.</summary>
    [JsonStringEnumMemberName("technician")]
    Technician,
    /// <summary>Everything: change archives, set refusals aside, give out tokens.</summary>
    [JsonStringEnumMemberName("administrator")]
    Administrator,
}

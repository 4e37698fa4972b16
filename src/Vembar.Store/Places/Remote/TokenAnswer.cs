using System.Text.Json.Serialization;

namespace Vembar.Store.Places.Remote;

/// <summary>What a token server answers.</summary>
internal sealed record TokenAnswer
{
    public string? Token { get; init; }

    [JsonPropertyName("access_token")]
    public string? AccessToken { get; init; }

    [JsonPropertyName("expires_in")]
    public int? ExpiresIn { get; init; }
}

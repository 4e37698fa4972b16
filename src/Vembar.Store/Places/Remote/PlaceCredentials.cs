namespace Vembar.Store.Places.Remote;

/// <summary>Who one is at a place: a user with a password, or a token.</summary>
/// <param name="User">The user; empty with a token.</param>
/// <param name="Secret">The password or token.</param>
/// <param name="IsToken">Whether the secret is sent as it is, as a bearer token.</param>
public sealed record PlaceCredentials(string User, string Secret, bool IsToken)
{
    /// <summary>Says nothing of the secret.</summary>
    public override string ToString() => IsToken ? "a token" : $"user '{User}'";
}

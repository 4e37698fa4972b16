namespace Vembar.Operations.Access;

/// <summary>A login of <see cref="CommonLogins"/>.</summary>
internal sealed record CommonLogin
{
    /// <summary>User and password with a colon between, in Base64.</summary>
    public string? Auth { get; init; }
}

namespace Vembar.Operations.Access;

/// <summary>The file in which programs that speak to registries keep logins.</summary>
internal sealed record CommonLogins
{
    public Dictionary<string, CommonLogin?>? Auths { get; init; }
}

namespace Vembar.Operations.Access;

/// <summary>Our own file of logins, by hosts.</summary>
internal sealed record LoginFile
{
    public SortedDictionary<string, Login> Places { get; init; } = new(StringComparer.OrdinalIgnoreCase);
}

namespace Vembar.Images.Records;

/// <summary>What an image of user files says of them.</summary>
/// <param name="Machine">The machine that they were on.</param>
/// <param name="Accounts">Whose files they are.</param>
/// <param name="Elsewhere">Patterns of what was kept outside of profiles.</param>
public sealed record KeptFiles(string Machine, IReadOnlyList<KeptAccount> Accounts, IReadOnlyList<string> Elsewhere)
{
    /// <summary>Tells the volume that they were on from any other, also from one that is made in its place; empty where that cannot be
    /// told.</summary>
    public string Volume { get; init; } = "";
}

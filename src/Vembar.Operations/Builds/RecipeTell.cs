namespace Vembar.Operations.Builds;

/// <summary>Who is told how a run went: a program or a web address.</summary>
/// <param name="Run">The program and its arguments; empty for an address. The run's state, JSON, is its standard input.</param>
/// <param name="Post">The address, to which the run's state is posted; null for a program.</param>
public sealed record RecipeTell(IReadOnlyList<string> Run, string? Post)
{
    /// <summary>What it is, for people.</summary>
    public string What => Post ?? Run[0];
}

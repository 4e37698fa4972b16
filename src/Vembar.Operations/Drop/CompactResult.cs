namespace Vembar.Operations.Drop;

/// <summary>What compacting did.</summary>
/// <param name="Archive">The archive.</param>
/// <param name="Images">How many images it holds.</param>
/// <param name="Before">Its length before, in bytes.</param>
/// <param name="After">Its length now.</param>
/// <param name="Seconds">Time taken.</param>
public sealed record CompactResult(string Archive, int Images, long Before, long After, double Seconds);

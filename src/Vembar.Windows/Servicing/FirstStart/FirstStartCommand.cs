namespace Vembar.Windows.Servicing.FirstStart;

/// <summary>A command that runs once at the first start.</summary>
/// <param name="Name">What it is called in the log; letters, digits, blanks, '-', '_' and '.'.</param>
/// <param name="Command">The command line.</param>
/// <param name="Good">Exit codes that mean success.</param>
public sealed record FirstStartCommand(string Name, string Command, IReadOnlyList<int> Good);

namespace Vembar.Operations.History;

/// <summary>The states of an archive.</summary>
/// <param name="States">Those that can be found, oldest first.</param>
/// <param name="Problems">What hides others; empty for nothing.</param>
/// <param name="NewerIsDamagedBehind">The number of the last whole state, when a newer one behind it is damaged; else null.</param>
public sealed record HistoryResult(IReadOnlyList<ArchiveState> States, IReadOnlyList<string> Problems, long? NewerIsDamagedBehind);

namespace Vembar.Operations.Stations.Contract;

/// <summary>What a machine tells of its task, as it happens.</summary>
/// <param name="Task">Which.</param>
/// <param name="Number">Counts the reports of a task, from 1 on; one that comes late, or again, changes nothing.</param>
/// <param name="Progress">How far it is; null for as far as before.</param>
/// <param name="Events">What happened since.</param>
/// <param name="Outcome">How it ended; null while it goes on.</param>
public sealed record TaskReport(string Task, int Number, TaskProgress? Progress, IReadOnlyList<TaskEvent> Events, TaskOutcome? Outcome)
{
    /// <summary>The user files that are to be put back, the oldest first; null for no news of them. The disk is not divided before the
    /// station took note of it.</summary>
    public IReadOnlyList<KeptImage>? Kept { get; init; }
}

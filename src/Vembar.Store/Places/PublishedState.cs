namespace Vembar.Store.Places;

/// <summary>A state of an archive, as those need to know it who keep its bytes.</summary>
/// <param name="Id">The archive's id.</param>
/// <param name="Sequence">The state's number.</param>
/// <param name="Length">Where it ends, in bytes.</param>
/// <param name="Mark">A short text that tells it from other states of the same number.</param>
/// <param name="Time">When it was made, UTC.</param>
/// <param name="Images">Its images: numbers, names and versions.</param>
public sealed record PublishedState(Guid Id, long Sequence, long Length, string Mark, DateTime Time,
    IReadOnlyList<(int Number, string Name, string Version)> Images);

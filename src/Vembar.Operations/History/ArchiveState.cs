namespace Vembar.Operations.History;

/// <summary>A state that an archive went through.</summary>
/// <param name="Number">Its number; 0 is the empty archive.</param>
/// <param name="Time">When it was made, UTC.</param>
/// <param name="Change">What made it; empty where that is damaged.</param>
/// <param name="Images">The images that it lists: number, name and version; a name is empty where the image's record is damaged.</param>
/// <param name="End">Where it ends in the file, in bytes.</param>
/// <param name="By">Who made it ("user@host"); empty where that was not noted.</param>
/// <param name="Problem">What of it is damaged, so that it cannot be gone back to; empty for nothing.</param>
public sealed record ArchiveState(long Number, DateTime Time, string Change,
    IReadOnlyList<(int Number, string Name, string Version)> Images, long End, string By, string Problem);

namespace Vembar.Operations.Survey;

/// <summary>What to look at.</summary>
/// <param name="Source">A folder, a disk image or a block device.</param>
public sealed record SurveyRequest(string Source);

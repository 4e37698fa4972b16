namespace Vembar.Operations.Survey;

/// <summary>What to look at.</summary>
/// <param name="Source">A folder, a disk image or a block device.</param>
/// <param name="AcceptDamaged">Whether a disk image that is cut short or was not closed properly is read as far as it is there.</param>
public sealed record SurveyRequest(string Source, bool AcceptDamaged = false);

namespace Vembar.Operations.Survey;

/// <summary>What a source holds.</summary>
/// <param name="Source">The source.</param>
/// <param name="Disk">The disk; null for a folder.</param>
/// <param name="Volumes">Its volumes.</param>
/// <param name="Warnings">What should be known.</param>
public sealed record SurveyResult(string Source, SurveyedDisk? Disk, IReadOnlyList<SurveyedVolume> Volumes, IReadOnlyList<string> Warnings);

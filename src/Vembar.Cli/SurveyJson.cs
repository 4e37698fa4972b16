namespace Vembar.Cli;

internal sealed record SurveyJson(string Source, DiskJson? Disk, IReadOnlyList<VolumeJson> Volumes, IReadOnlyList<string> Warnings);

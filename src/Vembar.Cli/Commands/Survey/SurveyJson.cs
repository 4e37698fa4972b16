namespace Vembar.Cli.Commands.Survey;

internal sealed record SurveyJson(string Source, DiskJson? Disk, IReadOnlyList<VolumeJson> Volumes, IReadOnlyList<string> Warnings);

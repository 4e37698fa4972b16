namespace Vembar.Cli.Commands.Report;

internal sealed record ReportJson(string Archive, long FileLength, string? Page, IReadOnlyList<ReportImageJson> Images,
    long Total, long Distinct, ReportSpaceJson? Space, IReadOnlyList<string> Problems);

using System.CommandLine;
using System.Globalization;
using Vembar.Cli.Commands.Projects;
using Vembar.Common;
using Vembar.Operations.Project;
using Vembar.Operations.Report;
using Vembar.Operations.Sites;

namespace Vembar.Cli.Commands.Report;

internal static class ReportCommand
{
    public static VembarCommand Create()
    {
        var what = new Argument<string[]>("WHAT")
        {
            Description = "An archive (the project file's where none is named), or sites of the project file",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var to = new Option<string?>("--out") { Description = "Write an HTML page with charts", HelpName = "PAGE" };
        var space = new Option<string?>("--space-of")
        {
            Description = "The image whose room is told by folder and program; otherwise the newest that holds Windows",
            HelpName = "IMAGE",
        };
        var from = SitesCommand.From();
        return new VembarCommand("report",
            "Tell how an archive grew, what its images share and hold, where room goes; or what is at which site",
            "vembar report desks.vmb --out desks.html", "vembar report desks.vmb --space-of \"Reading room@pilot\" --out desks.html",
            "vembar report Staithe Ashbeck --out sites.html")
            .With(what, to, space, from, SharedOptions.Base, SharedOptions.AtState).Does(async (parse, session) =>
            {
                var named = parse.GetValue(what) ?? [];
                var page = OutputFile.At(parse.GetValue(to), session, Page.Mark);
                // Several names of nothing that is there can only be sites, and then it is told what is wrong with that.
                return named.Length > 0 && (named.All(n => IsSite(n, session)) || named.Length > 1 && !named.Any(Native.Posix.Exists))
                    ? await SitesAsync(parse, session, SitesCommand.Chosen(named, session), parse.GetValue(from), parse.GetValue(to), page)
                        .ConfigureAwait(false)
                    : await ArchiveAsync(parse, session, named, parse.GetValue(space), parse.GetValue(from), parse.GetValue(to), page)
                        .ConfigureAwait(false);
            });
    }

    // A file goes before a site of that name.
    private static bool IsSite(string name, Session session) => !Native.Posix.Exists(name)
        && session.Project?.Sites.Any(s => s.Name.Equals(name, StringComparison.OrdinalIgnoreCase)) == true;

    private static async Task<int> SitesAsync(ParseResult parse, Session session, IReadOnlyList<Site> sites, string? from, string? to,
        OutputFile? page)
    {
        var archive = SharedOptions.PlaceOf(parse, from, session);
        var states = await session.Do(new SitesHandler(session.Host), new SitesRequest(archive, sites, Verify: false,
            SitesCommand.Memory()));
        page?.Write(SitesPage.Of(archive.Path, states, session.Host.Clock.GetUtcNow().UtcDateTime));
        session.Result(SitesCommand.JsonOf(states), json => json.SitesJson, () =>
        {
            SitesCommand.Show(states, session);
            if (to is not null)
                Session.Line($"{to} shows it.");
        });
        return states.All(s => s.IsInOrder) ? ExitCode.Done : ExitCode.NotInOrder;
    }

    private static async Task<int> ArchiveAsync(ParseResult parse, Session session, string[] named, string? space, string? from, string? to,
        OutputFile? page)
    {
        if (from is not null)
            throw new VembarException(ErrorKind.Usage, "option-alone", "--from says of which archive sites keep copies",
                "Name sites of the project file with it; an archive that is reported on is named by itself.");
        if (named.Length > 1)
            throw new VembarException(ErrorKind.Usage, "one-archive", $"a report is on one archive, or on sites of the project file; "
                + $"{Text.Count(named.Length, "name")} were given", "Name one archive, or sites alone.");
        var archive = SharedOptions.PlaceOf(parse, named.Length == 1 ? named[0] : null, session);
        var result = await session.Do(new ReportHandler(session.Host), new ReportRequest(archive, space));
        page?.Write(ReportPage.Of(result, session.Host.Clock.GetUtcNow().UtcDateTime));
        session.Warn(result.Problems);
        session.Result(Json(result, to), json => json.ReportJson, () => Show(result, to, session));
        return result.Problems.Count == 0 ? ExitCode.Done : ExitCode.Damaged;
    }

    private static ReportJson Json(ReportResult report, string? to) => new(report.Archive, report.FileLength, to,
        [.. report.Images.Select((image, at) => new ReportImageJson(image.Record.Number, image.Record.Name, image.Record.Version,
            image.Source, image.Parent, image.Record.Channels ?? [], image.Record.Bytes, image.Record.BytesAdded, report.Sharing.Own[at],
            [.. report.Images.Select((_, other) => report.Sharing.Between(at, other))], image.Contents.Programs?.Count,
            image.Contents.Drivers?.Count, image.Contents.Packages?.Count(p => p.ReplacedBy is null),
            image.Contents.Packages is null ? null : ReportPage.FeaturesOf(image).Count()))],
        report.Sharing.Total, report.Sharing.Distinct,
        report.Space is { } space ? new ReportSpaceJson(space.Number, space.Root, space.Programs) : null, report.Problems);

    private static void Show(ReportResult report, string? to, Session session)
    {
        var table = new Table(">#", "Name", "Version", "~>Size", ">Grew by", ">In no other", "Most in common with");
        for (var at = 0; at < report.Images.Count; at++)
        {
            var image = report.Images[at].Record;
            table.Row($"{image.Number}", image.Name, image.Version, Text.Size(image.Bytes), Text.Size(image.BytesAdded),
                Text.Size(report.Sharing.Own[at]), Nearest(report, at));
        }
        if (report.Images.Count > 0)
        {
            table.Print(session, without: report.Images.Any(i => i.Record.Version.Length > 0) ? -1 : 2);
            Session.Line();
        }
        var sharing = report.Sharing;
        var times = sharing.Distinct == 0 ? "" : $"; each piece is in {((double)sharing.Total / sharing.Distinct)
            .ToString("0.0", CultureInfo.InvariantCulture)} images on average";
        Session.Line($"{Text.Count(report.Images.Count, "image")} with {Text.Size(sharing.Total)}, {Text.Size(sharing.Distinct)} with each "
            + $"piece once{times}. The file has {Text.Size(report.FileLength)}.");
        Session.Line(to is null ? "With --out PAGE it is a page with charts." : $"{to} shows it with charts.");
    }

    private static string Nearest(ReportResult report, int at)
    {
        var nearest = Enumerable.Range(0, report.Images.Count).Where(i => i != at).OrderByDescending(i => report.Sharing.Between(at, i))
            .ThenBy(i => i).Cast<int?>().FirstOrDefault();
        if (nearest is not { } other || report.Sharing.Between(at, at) is not (> 0 and var all))
            return "";
        return $"{report.Images[other].Record.Number} ({((double)report.Sharing.Between(at, other) / all)
            .ToString("0 %", CultureInfo.InvariantCulture)})";
    }
}

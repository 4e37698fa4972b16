using System.CommandLine;
using Vembar.Common;
using Vembar.Operations.Project;
using Vembar.Operations.Sites;

namespace Vembar.Cli.Commands.Projects;

internal static class SitesCommand
{
    public static VembarCommand Create()
    {
        var names = Names("The sites; all of them where none is named");
        var from = From();
        var verify = new Option<bool>("--verify") { Description = "Read each of them whole and check every byte" };
        return new VembarCommand("sites", "Compare the sites of the project file with what they should keep", "vembar sites",
            "vembar sites Staithe --json").With(names, from, verify).Does(async (parse, session) =>
            {
                var chosen = Chosen(parse.GetValue(names) ?? [], session);
                var states = await session.Do(new SitesHandler(session.Host), new SitesRequest(
                    SharedOptions.ArchiveOf(parse.GetValue(from), session), Chosen(parse.GetValue(names) ?? [], session),
                    parse.GetValue(verify),
                    Memory()));
                session.Result(JsonOf(states), json => json.SitesJson, () => Show(states, session));
                return states.All(s => s.IsInOrder) ? ExitCode.Done : ExitCode.NotInOrder;
            });
    }

    /// <summary>Names of sites.</summary>
    public static Argument<string[]> Names(string description) => new("SITE")
    {
        Description = description,
        Arity = ArgumentArity.ZeroOrMore,
    };

    /// <summary>The archive that sites keep copies of.</summary>
    public static Option<string?> From() => new("--from")
    {
        Description = "The archive that they keep copies of, where it is not the project file's",
        HelpName = "ARCHIVE",
    };

    /// <summary>The sites that were named, or all.</summary>
    /// <exception cref="VembarException">There is no project file, or it has no such site.</exception>
    public static IReadOnlyList<Site> Chosen(IReadOnlyList<string> names, Session session)
    {
        if (session.Project is not { Sites.Count: > 0 } project)
            throw VembarException.Input("no-sites",
                session.Project is null ? "there is no project file here" : $"'{session.Project.Path}' has no sites",
                "`vembar init` writes one that shows how sites are named.");
        return names.Count == 0 ? project.Sites : [.. names.Distinct(StringComparer.OrdinalIgnoreCase).Select(name =>
            project.Sites.FirstOrDefault(s => s.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
            ?? throw VembarException.Input("no-such-site", $"'{project.Path}' has no site '{name}'",
                EditDistance.Nearest(name, project.Sites.Select(s => s.Name)) is { } near ? $"Did you mean '{near}'?"
                : $"It has {string.Join(", ", project.Sites.Select(s => s.Name))}."))];
    }

    /// <summary>The file that remembers when sites were compared last.</summary>
    public static string? Memory()
    {
        var state = Environment.GetEnvironmentVariable("XDG_STATE_HOME");
        if (string.IsNullOrEmpty(state))
            state = Environment.GetEnvironmentVariable("HOME") is { Length: > 0 } home ? Path.Combine(home, ".local", "state") : null;
        return state is null ? null : Path.Combine(state, "vembar", "sites.json");
    }

    /// <summary>Sites as JSON.</summary>
    public static SitesJson JsonOf(IReadOnlyList<SiteState> states) => new([.. states.Select(Json)]);

    private static SiteJson Json(SiteState state) => new(state.Site.Name, state.Site.Place, state.IsInOrder, state.Compared,
        [.. state.Images.Select(i => new SiteImagesJson(i.Name, i.There, i.Missing, i.Extra, i.Differing, i.Damaged, i.Marks))],
        state.Problem is null ? null : Errors.Body(state.Problem));

    /// <summary>Versions in a line.</summary>
    public static string List(IEnumerable<string> versions) => string.Join(", ", versions.Select(v => v.Length > 0 ? v : "(none)"));

    /// <summary>Shows how sites stand.</summary>
    public static void Show(IReadOnlyList<SiteState> states, Session session)
    {
        var table = new Table("Site", "~Image", "There", "Missing", "~Extra", "~Otherwise", "~Compared");
        foreach (var state in states)
        {
            var compared = state.Compared is { } time ? Text.Time(time) : "never";
            if (state.Problem is { } problem)
                table.Row(state.Site.Name, "-", "", "", "", $"cannot be compared: {AdviceText.MessageOf(problem)}", compared);
            else if (state.Images.Count == 0)
                table.Row(state.Site.Name, "-", "", "", "", "it keeps nothing", compared);
            foreach (var image in state.Images)
            {
                string[] otherwise = [
                    image.Differing.Count > 0 ? $"another content: {List(image.Differing)}" : "",
                    image.Marks.Count > 0 ? $"other marks or channels: {List(image.Marks)}" : "",
                    image.Damaged.Count > 0 ? $"damaged: {string.Join("; ", image.Damaged)}" : ""];
                table.Row(state.Site.Name, image.Name, List(image.There), List(image.Missing), List(image.Extra),
                    string.Join("; ", otherwise.Where(o => o.Length > 0)), compared);
            }
        }
        table.Print(session);
        var wrong = states.Count(s => !s.IsInOrder);
        Session.Line();
        var are = wrong == 1 ? "is not as it should be" : "are not as they should be";
        session.Verdict(wrong == 0, wrong == 0 ? $"{Text.Count(states.Count, "site")}: all as it should be."
            : $"{Text.Count(wrong, "site")} of {states.Count} {are}; `vembar sync` brings what is missing.");
    }
}

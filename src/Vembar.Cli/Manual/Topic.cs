using Vembar.Common;

namespace Vembar.Cli.Manual;

/// <summary>A subject with a text of its own: the pages of docs/ that are needed while working, carried in the program.</summary>
internal static class Topic
{
    /// <summary>The subjects' names, and what they are about.</summary>
    public static IReadOnlyList<ManualEntry> All { get; } =
    [
        new("orders", "work orders: a list of changes in a file"),
        new("recipes", "recipes and builds"),
        new("expectations", "what an install must be"),
        new("readiness", "what `ready` checks, and rules of one's own"),
        new("drivers", "drivers: who is trusted, what goes in, which one a device gets"),
        new("hardware", "hardware profiles"),
        new("packages", "packages: the manifest, what going in and coming out does"),
        new("answers", "answer files and profiles"),
        new("languages", "languages, formats, keyboards, time zones"),
        new("ballast", "rules for what nobody needs, and tidying"),
        new("workspaces", "images laid open in folders"),
        new("disks", "how disks are divided, and what makes them start"),
        new("versions", "versions, channels, marks"),
        new("places", "archives behind web servers and in registries"),
        new("project", "the project file, sites"),
        new("signing", "signed images"),
        new("station", "the station: machines, approval, lists, rules"),
        new("starters", "what a bare machine runs"),
        new("netboot", "starting from the network"),
        new("waves", "an image to many machines at once"),
        new("user-files", "user files kept across a new install"),
        new("reports", "pages with charts, and what their figures mean"),
        new("json", "the JSON of every command, exit codes"),
    ];

    // Where the page is called otherwise than the subject.
    private static string FileOf(string name) => name switch
    {
        "orders" => "work-order",
        "disks" => "disk-layout",
        _ => name,
    };

    /// <summary>The subject of a page of docs/ that another one points to; null where it is not carried.</summary>
    public static string? OfPage(string url) => All.FirstOrDefault(t => $"{FileOf(t.Term)}.md" == url.Split('#')[0])?.Term;

    /// <summary>The text of a subject.</summary>
    /// <exception cref="VembarException">There is no such subject.</exception>
    public static IReadOnlyList<TextBlock> Read(string name)
    {
        using var page = typeof(Topic).Assembly.GetManifestResourceStream($"docs/{FileOf(name)}.md")
            ?? throw new VembarException(ErrorKind.Usage, "no-such-subject", $"there is no subject '{name}'",
                "`vembar help` lists what there is.");
        using var reader = new StreamReader(page);
        return Markdown.Read(reader.ReadToEnd());
    }
}

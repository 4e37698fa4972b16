using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Records;
using Vembar.Native;
using Vembar.Operations.Mark;
using Vembar.Store.Places;
using YamlDotNet.RepresentationModel;

namespace Vembar.Operations.Project;

/// <summary>What an organisation says once for all commands: vembar.yaml, found upwards from the working folder. docs/project.md.</summary>
public sealed record ProjectFile
{
    /// <summary>What the file is called where it is looked for.</summary>
    public const string FileName = "vembar.yaml";

    internal static readonly string[] Keys =
        ["archive", "version", "channels", "trust", "signers", "hardware", "rules", "ca", "station", "sites"];
    internal static readonly string[] SiteKeys = ["place", "channels", "newest", "names"];

    /// <summary>The file.</summary>
    public required string Path { get; init; }

    /// <summary>The archive that is meant where none is named; null for none.</summary>
    public string? Archive { get; init; }

    /// <summary>How versions are made; null for the usual way.</summary>
    public VersionPattern? Versions { get; init; }

    /// <summary>The channels that there are, the first tried first; empty for any.</summary>
    public IReadOnlyList<string> Channels { get; init; } = [];

    /// <summary>Files and folders of certificates that are trusted for drivers.</summary>
    public IReadOnlyList<string> Trust { get; init; } = [];

    /// <summary>Files and folders of certificates of those who may sign images.</summary>
    public IReadOnlyList<string> Signers { get; init; } = [];

    /// <summary>Hardware profiles: files and folders.</summary>
    public IReadOnlyList<string> Hardware { get; init; } = [];

    /// <summary>The organisation's own readiness rules; null for none.</summary>
    public string? Rules { get; init; }

    /// <summary>Certificates of who vouches for the servers of places; null for none.</summary>
    public string? Ca { get; init; }

    /// <summary>The station's address; null for none.</summary>
    public string? Station { get; init; }

    /// <summary>Places that keep copies of images.</summary>
    public IReadOnlyList<Site> Sites { get; init; } = [];

    /// <summary>Looks for the file upwards from a folder.</summary>
    /// <param name="folder">Where to begin.</param>
    /// <param name="passedOver">One that was found and is somebody else's, so that it is not used; null for none.</param>
    /// <returns>The file's path; null when there is none.</returns>
    public static string? Find(string folder, out string? passedOver)
    {
        passedOver = null;
        for (var at = System.IO.Path.GetFullPath(folder); at is not null; at = System.IO.Path.GetDirectoryName(at))
        {
            var path = System.IO.Path.Combine(at, FileName);
            if (!Posix.TryStat(null, PosixName.Encode(path), out var found, followLink: true) || found.Kind != PosixKind.File)
                continue;
            // In a folder that anybody may write to, anybody could say whom to trust.
            if (found.Uid == Posix.UserId || found.Uid == 0)
                return path;
            passedOver ??= path;
        }
        return null;
    }

    /// <summary>Reads a project file.</summary>
    /// <exception cref="VembarException">It is not there, or not one; all mistakes are told with their lines.</exception>
    public static ProjectFile Read(string path)
    {
        var full = System.IO.Path.GetFullPath(path);
        var folder = System.IO.Path.GetDirectoryName(full)!;
        var yaml = YamlFile.Load(path, "a project file", "bad-project", "docs/project.md");
        yaml.Known(yaml.Root, Keys);
        string? PathAt(string key) => Text(yaml, yaml.Root, key) is { } text ? Whole(folder, text) : null;
        IReadOnlyList<string> PathsAt(string key) => [.. yaml.Texts(yaml.Root.At(key)).Select(p => Whole(folder, p))];
        var project = new ProjectFile
        {
            Path = full,
            Archive = PathAt("archive"),
            Versions = Pattern(yaml),
            Channels = ChannelsOf(yaml, yaml.Root.At("channels")),
            Trust = PathsAt("trust"),
            Signers = PathsAt("signers"),
            Hardware = PathsAt("hardware"),
            Rules = PathAt("rules"),
            Ca = PathAt("ca"),
            Station = Text(yaml, yaml.Root, "station"),
            Sites = SitesOf(yaml, folder),
        };
        if (project.Station is { } station && !PlaceAddress.IsWeb(station))
            yaml.Wrong(yaml.Root.At("station")!, $"'{station}' is not the address of a station: https://HOST is wanted");
        foreach (var (channel, site) in project.Sites.SelectMany(s => s.Channels.Select(c => (c, s))))
        {
            if (project.Channels.Count > 0 && !project.Channels.Contains(channel, StringComparer.OrdinalIgnoreCase))
                yaml.Wrong($"the site '{site.Name}' keeps the channel '{channel}', which is not one of "
                    + $"{string.Join(", ", project.Channels)}");
        }
        yaml.Throw();
        return project;
    }

    // Paths are meant from the file's own folder.
    private static string Whole(string folder, string text) =>
        PlaceAddress.IsRemote(text) ? text : System.IO.Path.GetFullPath(text, folder);

    private static string? Text(YamlFile yaml, YamlMappingNode map, string key)
    {
        if (map.At(key) is not { } node)
            return null;
        if (node is YamlScalarNode { Value: { Length: > 0 } text })
            return text;
        yaml.Wrong(node, $"'{key}' is a text");
        return null;
    }

    private static VersionPattern? Pattern(YamlFile yaml)
    {
        if (Text(yaml, yaml.Root, "version") is not { } text)
            return null;
        try
        {
            return VersionPattern.Parse(text);
        }
        catch (VembarException problem)
        {
            yaml.Wrong(yaml.Root.At("version")!, problem.Message);
            return null;
        }
    }

    private static List<string> ChannelsOf(YamlFile yaml, YamlNode? node)
    {
        var channels = yaml.Texts(node);
        foreach (var channel in channels.Where(c => !MarkHandler.IsChannelName(c)))
            yaml.Wrong(node!, $"'{channel}' cannot be a channel: letters, digits, '-' and '_', a letter first");
        return channels;
    }

    private static List<Site> SitesOf(YamlFile yaml, string folder)
    {
        var sites = new List<Site>();
        if (yaml.Root.At("sites") is not { } node)
            return sites;
        if (node is not YamlMappingNode map)
        {
            yaml.Wrong(node, "'sites' is a mapping of names to what each site is");
            return sites;
        }
        foreach (var (key, value) in map.Children)
        {
            var name = (key as YamlScalarNode)?.Value ?? "";
            if (name.Length == 0 || name.Any(char.IsControl) || value is not YamlMappingNode site)
            {
                yaml.Wrong(key, "a site has a name, and says its place and what it keeps");
                continue;
            }
            yaml.Known(site, SiteKeys);
            if (Text(yaml, site, "place") is not { } place)
            {
                yaml.Wrong(key, $"the site '{name}' has no place");
                continue;
            }
            var newest = Newest(yaml, site);
            var channels = ChannelsOf(yaml, site.At("channels"));
            var names = yaml.Texts(site.At("names"));
            if (newest == 0 && channels.Count == 0)
                yaml.Wrong(key, $"the site '{name}' keeps nothing: say which channels, or how many of the newest versions");
            sites.Add(new Site(name, Whole(folder, place), channels, newest, names));
        }
        if (sites.GroupBy(s => s.Place).FirstOrDefault(g => g.Count() > 1) is { } twice)
            yaml.Wrong(node, $"two sites are at '{twice.Key}'");
        return sites;
    }

    private static int Newest(YamlFile yaml, YamlMappingNode site)
    {
        const int Most = 1000;
        if (site.At("newest") is not { } node)
            return 0;
        if (node is YamlScalarNode { Value: var text }
            && int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            && number is >= 0 and <= Most)
            return number;
        yaml.Wrong(node, $"'newest' is how many of the newest versions are kept, up to {Most}");
        return 0;
    }
}

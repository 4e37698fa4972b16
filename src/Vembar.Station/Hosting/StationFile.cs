using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Operations.Project;
using Vembar.Store.Places;
using YamlDotNet.RepresentationModel;

namespace Vembar.Station.Hosting;

/// <summary>Reads station.yaml. docs/station.md describes it.</summary>
public static class StationFile
{
    /// <summary>What the file is called where it is looked for.</summary>
    public const string FileName = "station.yaml";

    private static readonly string[] s_keys =
    [
        "listen", "addresses", "data", "database", "certificate", "key", "archives", "hardware", "signers", "expectations", "approve",
        "image", "names", "cache", "ca", "user-files", "user-files-rules", "user-files-folder", "starters", "boot",
        "waves", "power",
    ];

    /// <summary>What a station is to be, from its file and the project file.</summary>
    /// <param name="path">The station's file; null for none.</param>
    /// <param name="project">The project file; null for none.</param>
    /// <param name="data">The folder for what is its own, where the command line names one; null for the file's, or "station".</param>
    /// <exception cref="VembarException">The file is not there or not one; all mistakes are told with their lines.</exception>
    public static StationOptions Read(string? path, ProjectFile? project, string? data)
    {
        var options = OfProject(project);
        if (path is null)
            return options with { Data = Path.GetFullPath(data ?? "station") };
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        var yaml = YamlFile.Load(path, "a station's file", "bad-station-file", "docs/station.md");
        yaml.Known(yaml.Root, s_keys);
        string? TextOf(string key)
        {
            if (yaml.Root.At(key) is not { } node)
                return null;
            if (node is YamlScalarNode { Value: { Length: > 0 } text })
                return text;
            yaml.Wrong(node, $"'{key}' is a text");
            return null;
        }
        string Whole(string text) => PlaceAddress.IsRemote(text) ? text : Path.GetFullPath(text, folder);
        IReadOnlyList<string>? PathsOf(string key) => yaml.Root.At(key) is { } node ? [.. yaml.Texts(node).Select(Whole)] : null;
        IReadOnlyList<(string, string)>? NamedOf(string key)
        {
            if (yaml.Root.At(key) is not { } node)
                return null;
            if (node is not YamlMappingNode map)
            {
                yaml.Wrong(node, $"'{key}' is a mapping of names to what they mean");
                return null;
            }
            var named = new List<(string, string)>();
            foreach (var (name, value) in map.Children)
            {
                if (name is YamlScalarNode { Value: { } word } && IsName(word) && value is YamlScalarNode { Value: { Length: > 0 } text })
                    named.Add((word, Whole(text)));
                else
                    yaml.Wrong(name, "a name is of letters, digits, '.', '-' and '_', a letter or digit first, and has a path or address");
            }
            return named;
        }
        var (certificate, key) = (TextOf("certificate"), TextOf("key"));
        if (certificate is null != key is null)
            yaml.Wrong("'certificate' and 'key' go together");
        options = options with
        {
            Data = data is not null ? Path.GetFullPath(data) : Whole(TextOf("data") ?? "station"),
            Listen = TextOf("listen") ?? options.Listen,
            Addresses = yaml.Texts(yaml.Root.At("addresses")) is { Count: > 0 } addresses ? addresses : options.Addresses,
            Database = TextOf("database"),
            Certificate = certificate is null || key is null ? null : (Whole(certificate), Whole(key)),
            Archives = NamedOf("archives") ?? options.Archives,
            Hardware = PathsOf("hardware") ?? options.Hardware,
            Signers = PathsOf("signers") ?? options.Signers,
            Expectations = NamedOf("expectations") ?? options.Expectations,
            Approve = Rule(yaml, TextOf("approve")),
            Image = TextOf("image") ?? "",
            Names = TextOf("names") ?? "",
            Starters = TextOf("starters") is { } starters ? Whole(starters) : null,
            Boot = BootFile.Read(yaml, yaml.Root.At("boot")),
            Power = PowerFile.Read(yaml, yaml.Root.At("power")),
            Waves = WaveFile.Read(yaml, yaml.Root.At("waves"), BootFile.Read(yaml, yaml.Root.At("boot"))),
            UserFiles = UserFilesOf(yaml, TextOf("user-files")),
            UserFilesRules = TextOf("user-files-rules") is { } rules ? Whole(rules) : null,
            UserFilesFolder = TextOf("user-files-folder") is { } kept ? Whole(kept) : null,
            Ca = TextOf("ca") is { } ca ? Whole(ca) : options.Ca,
            Cache = CacheOf(yaml, TextOf("cache")) ?? options.Cache,
        };
        foreach (var address in options.Addresses)
        {
            if (!Uri.TryCreate(address, UriKind.Absolute, out var uri) || uri.Scheme != Uri.UriSchemeHttps)
                yaml.Wrong(yaml.Root.At("addresses")!, $"'{address}' is not an address of a station: https://HOST:PORT is wanted");
        }
        if (options.Archives.FirstOrDefault(a => a.Name.StartsWith(StationOptions.UserFilesPrefix, StringComparison.OrdinalIgnoreCase))
            is { Name: { } reserved })
            yaml.Wrong(yaml.Root.At("archives")!, $"'{reserved}' cannot be an archive's name: user files of machines are called so");
        if (options.UserFilesFolder is { } folderOfFiles && PlaceAddress.IsRemote(folderOfFiles))
            yaml.Wrong(yaml.Root.At("user-files-folder")!, "user files are kept in a folder of this server, or one that it mounts");
        if (ListenAddress.Parse(options.Listen) is null)
            yaml.Wrong(yaml.Root.At("listen")!, $"'{options.Listen}' is not HOST:PORT");
        if (NamePattern.ProblemOf(options.Names) is { } problem)
            yaml.Wrong(yaml.Root.At("names")!, problem);
        yaml.Throw();
        return options;
    }

    private static StationOptions OfProject(ProjectFile? project)
    {
        var archives = new List<(string, string)>();
        if (project is not null)
        {
            foreach (var place in (string?[])[project.Archive, .. project.Sites.Select(s => s.Place)])
            {
                // Files beside the project; what lies elsewhere is served elsewhere, unless the station's file says so.
                if (place is not null && !PlaceAddress.IsRemote(place) && NameFor(place, archives) is { } name)
                    archives.Add((name, place));
            }
        }
        return new StationOptions
        {
            Data = "",
            Archives = archives,
            Hardware = project?.Hardware ?? [],
            Signers = project?.Signers ?? [],
            Ca = project?.Ca,
            Project = project,
        };
    }

    private static string? NameFor(string place, List<(string Name, string Place)> taken)
    {
        var name = Path.GetFileNameWithoutExtension(place);
        if (!IsName(name) || taken.Any(t => t.Place == place))
            return null;
        for (var number = 2; taken.Any(t => t.Name == name); number++)
            name = string.Create(CultureInfo.InvariantCulture, $"{Path.GetFileNameWithoutExtension(place)}-{number}");
        return name;
    }

    /// <summary>Whether a word can name something in an address.</summary>
    public static bool IsName(string word) => word.Length is > 0 and <= 64 && char.IsAsciiLetterOrDigit(word[0])
        && word.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_');

    private static string UserFilesOf(YamlFile yaml, string? text)
    {
        if (text is null or "none" or "keep")
            return text ?? "none";
        yaml.Wrong(yaml.Root.At("user-files")!, $"'{text}' is not one of none, keep");
        return "none";
    }

    private static ApprovalRule Rule(YamlFile yaml, string? text)
    {
        if (text is null)
            return ApprovalRule.Never;
        if (text is "never" or "known" or "always")
            return Enum.Parse<ApprovalRule>(text, ignoreCase: true);
        yaml.Wrong(yaml.Root.At("approve")!, $"'{text}' is not one of never, known, always");
        return ApprovalRule.Never;
    }

    private static long? CacheOf(YamlFile yaml, string? text)
    {
        if (text is null)
            return null;
        if (ByteSize.TryParse(text, out var bytes))
            return bytes;
        yaml.Wrong(yaml.Root.At("cache")!, $"'{text}' is not a size: write for instance \"64 GiB\"");
        return null;
    }
}

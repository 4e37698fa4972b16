using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Store.Hashing;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>The manifest of a package. docs/packages.md.</summary>
public sealed partial record PackageManifest
{
    /// <summary>The newest format that is read.</summary>
    public const int Format = 1;

    /// <summary>The manifest's file name.</summary>
    public const string FileName = "package.yaml";

    private static readonly string[] s_known = ["format", "name", "version", "title", "kind", "language", "applies-to", "requires",
        "replaces", "conflicts", "features", "hashes", "files", "remove", "registry", "services", "first-start"];
    private static readonly string[] s_partKeys = ["files", "remove", "registry", "services", "first-start"];
    private static readonly Version s_zero = new(0, 0, 0, 0);

    /// <summary>Its name.</summary>
    public string Name { get; private init; } = "";

    /// <summary>Its version, up to four numbers.</summary>
    public Version Version { get; private init; } = s_zero;

    /// <summary>What people call it.</summary>
    public string Title { get; private init; } = "";

    /// <summary>What it is.</summary>
    public PackageKind Kind { get; private init; }

    /// <summary>The language that a translation brings ("pl-PL"); empty for other kinds.</summary>
    public string Language { get; private init; } = "";

    /// <summary>Architectures that it is for (x64, arm64, x86); empty for any.</summary>
    public IReadOnlyList<string> Architectures { get; private init; } = [];

    /// <summary>The least build; 0 for any.</summary>
    public int LeastBuild { get; private init; }

    /// <summary>The last build; the greatest number for any.</summary>
    public int LastBuild { get; private init; } = int.MaxValue;

    /// <summary>Editions that it is for; empty for any.</summary>
    public IReadOnlyList<string> Editions { get; private init; } = [];

    /// <summary>Languages of which the image must have one; empty for any.</summary>
    public IReadOnlyList<string> Languages { get; private init; } = [];

    /// <summary>Packages that it needs.</summary>
    public IReadOnlyList<Requirement> Requires { get; private init; } = [];

    /// <summary>Packages of other names whose place it takes.</summary>
    public IReadOnlyList<string> Replaces { get; private init; } = [];

    /// <summary>Packages that it cannot be beside.</summary>
    public IReadOnlyList<string> Conflicts { get; private init; } = [];

    /// <summary>What it changes.</summary>
    public PackagePart Part { get; private init; } = new();

    /// <summary>Its switches.</summary>
    public IReadOnlyList<PackageFeature> Features { get; private init; } = [];

    /// <summary>The files of the package with their BLAKE3 hashes; empty before the package is made.</summary>
    public IReadOnlyDictionary<string, ChunkId> Hashes { get; private init; } = new Dictionary<string, ChunkId>();

    /// <summary>Reads up to four numbers.</summary>
    public static bool TryVersion(string text, out Version version)
    {
        version = s_zero;
        var parts = text.Split('.');
        var numbers = parts.Select(p => int.TryParse(p, NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n : -1)
            .Concat(new int[4]).Take(4).ToArray();
        if (parts.Length > 4 || numbers.Contains(-1))
            return false;
        version = new Version(numbers[0], numbers[1], numbers[2], numbers[3]);
        return true;
    }

    /// <summary>A version without zeros at its end.</summary>
    public static string Show(Version version) =>
        version.Revision > 0 ? version.ToString() : version.Build > 0 ? version.ToString(3) : version.ToString(2);

    /// <summary>Reads a manifest.</summary>
    /// <exception cref="VembarException">It is not one; all mistakes are told with their lines.</exception>
    public static PackageManifest Parse(string text, string displayName)
    {
        var yaml = YamlFile.Parse(text, displayName, "a package manifest", "bad-package", "docs/packages.md");
        var manifest = new PackageManifest();
        var map = yaml.Root.Children;
        yaml.Known(yaml.Root, s_known);
        string Text(string key) => map.TryGetValue(key, out var node) && node is YamlScalarNode { Value: { } value } ? value : "";
        if (Text("format") is { Length: > 0 } format
            && (!int.TryParse(format, CultureInfo.InvariantCulture, out var number) || number is < 1 or > Format))
            throw VembarException.Input("newer-package", $"'{displayName}' is of format {format}; this program reads up to {Format}",
                "Use a newer version of the program.");
        if (!ServicingName.IsOne(Text("name")))
            yaml.Wrong(yaml.Root.At("name") ?? yaml.Root,
                $"'{Text("name")}' is not a package's name: letters, digits, '.', '_' and '-' are");
        if (!TryVersion(Text("version"), out var version))
            yaml.Wrong(yaml.Root.At("version") ?? yaml.Root,
                $"'{Text("version")}' is not a version: up to four numbers with dots between them are");
        // Packages made by earlier versions have other words for two kinds.
        var kind = Text("kind") switch
        {
            "update" => PackageKind.Update,
            "extension" or "feature-set" => PackageKind.Extension,
            "translation" or "language" => PackageKind.Translation,
            "application" => PackageKind.Application,
            "settings" => PackageKind.Settings,
            _ => (PackageKind?)null,
        };
        if (kind is null)
            yaml.Wrong(yaml.Root.At("kind") ?? yaml.Root, "'kind' is one of update, extension, translation, application, settings");
        manifest = manifest with
        {
            Name = Text("name"),
            Version = version,
            Title = Text("title") is { Length: > 0 } title ? title : Text("name"),
            Kind = kind ?? PackageKind.Settings,
            Requires = [.. yaml.Texts(yaml.Root.At("requires"))
            .Select(t => Requirement.Parse(t) ?? Wrong<Requirement>(yaml, map["requires"], $"'{t}' is not 'name' or 'name >= version'"))
                .OfType<Requirement>()],
            Replaces = yaml.Texts(yaml.Root.At("replaces")),
            Conflicts = yaml.Texts(yaml.Root.At("conflicts")),
            Part = ReadPart(yaml, yaml.Root),
            Features = ReadFeatures(yaml, yaml.Root.At("features")),
            Hashes = ReadHashes(yaml, yaml.Root.At("hashes")),
        };
        if (manifest.Requires.Any(r => r.Name.Equals(manifest.Name, StringComparison.OrdinalIgnoreCase)))
            yaml.Wrong(map["requires"], "a package cannot need itself");
        if (manifest.Requires.Select(r => r.Name).Intersect(manifest.Conflicts.Append(""), StringComparer.OrdinalIgnoreCase)
            .FirstOrDefault() is { } both)
            yaml.Wrong(map["conflicts"], $"'{both}' is needed and cannot be there, both");
        if ((manifest.Kind == PackageKind.Translation) != map.ContainsKey("language"))
            yaml.Wrong(yaml.Root.At("language") ?? yaml.Root.At("kind") ?? yaml.Root,
                "a package of the kind 'translation' says which with 'language', and no other does");
        else if (manifest.Kind == PackageKind.Translation)
        {
            if (KnownLocale.Named(Text("language")) is { } locale)
                manifest = manifest with
                {
                    Language = locale.Name,
                    Part = manifest.Part with { System = [.. manifest.Part.System, .. LanguageKeys(locale)] },
                };
            else
                yaml.Wrong(map["language"],
                    $"'{Text("language")}' is not a language that is known here: pl-PL is "
                    + $"one{EditDistance.Hint(Text("language"), KnownLocale.Names)}");
        }
        if (map.TryGetValue("applies-to", out var applies))
            manifest = ReadApplies(yaml, applies, manifest);
        yaml.Throw();
        return manifest;
    }

    // How Windows knows which display languages it has.
    private static RegistryEdit[] LanguageKeys(KnownLocale locale)
    {
        const uint Installed = 0x91;
        var key = $@"Control\MUI\UILanguages\{locale.Name}";
        return
        [
            new RegistryEdit("SYSTEM", key, "LCID", RegistryEditKind.Set, RegistryType.Dword, BitConverter.GetBytes((uint)locale.Id)),
            new RegistryEdit("SYSTEM", key, "Type", RegistryEditKind.Set, RegistryType.Dword, BitConverter.GetBytes(Installed)),
        ];
    }

    private static T? Wrong<T>(YamlFile yaml, YamlNode node, string problem)
    {
        yaml.Wrong(node, problem);
        return default;
    }

    private static PackageManifest ReadApplies(YamlFile yaml, YamlNode node, PackageManifest manifest)
    {
        string[] known = ["architectures", "builds", "editions", "languages"];
        if (node is not YamlMappingNode map)
            return Wrong<PackageManifest>(yaml, node, $"'applies-to' is a mapping of {string.Join(", ", known)}") ?? manifest;
        yaml.Known(map, known);
        var (least, last) = (0, int.MaxValue);
        if (map.Children.TryGetValue("builds", out var builds))
        {
            // 22000, 22000-, -26100 or 22000-26100.
            var parts = builds.ToString().Split('-', StringSplitOptions.TrimEntries);
            bool Number(string text, ref int into) =>
                text.Length == 0 || int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out into);
            if (parts.Length > 2 || !Number(parts[0], ref least) || !Number(parts[^1], ref last))
                yaml.Wrong(builds, $"'{builds}' is not a range of builds: 22000-, -26100 and 22000-26100 are");
        }
        return manifest with
        {
            Architectures = yaml.Texts(map.At("architectures")),
            Editions = yaml.Texts(map.At("editions")),
            Languages = yaml.Texts(map.At("languages")),
            LeastBuild = least,
            LastBuild = last,
        };
    }

    private static PackagePart ReadPart(YamlFile yaml, YamlMappingNode map)
    {
        YamlNode? At(string key) => map.At(key);
        IEnumerable<YamlNode> Items(string key) => At(key) switch
        {
            null => [],
            YamlSequenceNode list => list,
            var node => Wrong<IEnumerable<YamlNode>>(yaml, node, $"'{key}' is a list") ?? [],
        };
        var files = new List<PackageFiles>();
        foreach (var item in Items("files"))
        {
            if (yaml.Fields(item, "from", "to", "attributes", "security") is not { } fields)
                continue;
            var from = fields.GetValueOrDefault("from") ?? "";
            var to = fields.GetValueOrDefault("to") ?? "";
            WindowsAttributes? attributes = null;
            foreach (var word in (fields.GetValueOrDefault("attributes") ?? "").Split([' ', ','], StringSplitOptions.RemoveEmptyEntries))
            {
                WindowsAttributes? one = word switch
                {
                    "read-only" => WindowsAttributes.ReadOnly,
                    "hidden" =>
                    WindowsAttributes.Hidden,
                    "system" => WindowsAttributes.System,
                    "archive" => WindowsAttributes.Archive,
                    "none" =>
                    WindowsAttributes.None,
                    _ => null
                };
                if (one is null)
                    yaml.Wrong(item, $"'{word}' is not an attribute: read-only, hidden, system, archive, none are");
                attributes = (attributes ?? 0) | (one ?? 0);
            }
            byte[]? security = null;
            if (fields.GetValueOrDefault("security") is { } sddl && (security = SecurityText.Parse(sddl, out var wrong)) is null)
                yaml.Wrong(item, $"'security': {wrong}");
            if (IsInside(from) && IsTarget(to) && !Glob.IsPattern(to))
                files.Add(new PackageFiles(from.Trim('/'), to.Replace('\\', '/').Trim('/'), attributes, security));
            else
                yaml.Wrong(item,
                    $"'{(IsInside(from) ? to : from)}' is not a path {(IsInside(from) ? "in an image" : "inside of the package")}");
        }
        var services = new List<RegistryEdit>();
        foreach (var item in Items("services"))
        {
            if (yaml.Fields(item, "name", "binary", "start", "title", "account") is { } fields)
                services.AddRange(ReadService(yaml, item, fields));
        }
        var commands = new List<FirstStartCommand>();
        foreach (var item in Items("first-start"))
        {
            if (yaml.Fields(item, "name", "run", "good") is not { } fields)
                continue;
            var command = new FirstStartCommand(fields.GetValueOrDefault("name") ?? "", fields.GetValueOrDefault("run") ?? "",
                ExitCodes.Parse(fields.GetValueOrDefault("good")) ?? []);
            if (FirstStartScript.Problem(command) is { } problem)
                yaml.Wrong(item, problem);
            else if (command.Good.Count == 0)
                yaml.Wrong(item, "'good' is a list of exit codes: 0, 3010");
            commands.Add(command);
        }
        var registry = yaml.Texts(At("registry"));
        if (registry.Find(r => !IsInside(r)) is { } outside)
            yaml.Wrong(At("registry")!, $"'{outside}' is not a path inside of the package");
        var remove = yaml.Texts(At("remove"));
        if (remove.Find(r => !IsTarget(r)) is { } bad)
            yaml.Wrong(At("remove")!, $"'{bad}' is not a path in an image");
        return new PackagePart { Files = files, Remove = remove, Registry = registry, System = services, FirstStart = commands };
    }

    private static IEnumerable<RegistryEdit> ReadService(YamlFile yaml, YamlNode item, Dictionary<string, string> fields)
    {
        const uint OwnProcess = 0x10, Normal = 1;
        string Text(string key) => fields.GetValueOrDefault(key) ?? "";
        uint? start = Text("start") switch
        {
            "boot" => 0,
            "system" => 1,
            "automatic" or "" => 2,
            "on-demand" => 3,
            "disabled" => 4,
            _ =>
            null
        };
        if (!ServicingName.IsOne(Text("name")) || Text("binary").Length == 0 || start is null)
        {
            yaml.Wrong(item,
                "a service has a name, a binary, and may have start (boot, system, automatic, on-demand, disabled), title and account");
            yield break;
        }
        var key = $@"Services\{Text("name")}";
        RegistryEdit Set(string name, RegistryType type, byte[] bytes) => new("SYSTEM", key, name, RegistryEditKind.Set, type, bytes);
        static byte[] Utf16(string text) => System.Text.Encoding.Unicode.GetBytes(text + "\0");
        yield return Set("Type", RegistryType.Dword, BitConverter.GetBytes(OwnProcess));
        yield return Set("Start", RegistryType.Dword, BitConverter.GetBytes(start.Value));
        yield return Set("ErrorControl", RegistryType.Dword, BitConverter.GetBytes(Normal));
        yield return Set("ImagePath", RegistryType.ExpandString, Utf16(Text("binary")));
        yield return Set("DisplayName", RegistryType.String, Utf16(Text("title") is { Length: > 0 } title ? title : Text("name")));
        yield return Set("ObjectName", RegistryType.String, Utf16(Text("account") is { Length: > 0 } account ? account : "LocalSystem"));
    }

    private static List<PackageFeature> ReadFeatures(YamlFile yaml, YamlNode? node)
    {
        var features = new List<PackageFeature>();
        string[] known = ["name", "title", "parent", "default", .. s_partKeys];
        foreach (var item in node is YamlSequenceNode list ? list.Children : [])
        {
            if (item is not YamlMappingNode map)
            {
                yaml.Wrong(item, "a feature is a mapping");
                continue;
            }
            foreach (var key in map.Children.Keys.Where(k => !known.Contains((k as YamlScalarNode)?.Value)))
                yaml.Wrong(key, $"'{key}' is not known in a feature{EditDistance.Hint(key.ToString(), known)}");
            string Text(string key) => map.At(key) is YamlScalarNode { Value: { } value } ? value : "";
            if (!ServicingName.IsOne(Text("name")))
                yaml.Wrong(item, $"'{Text("name")}' is not a feature's name: letters, digits, '.', '_' and '-' are");
            if (Text("default") is not ("" or "on" or "off" or "yes" or "no"))
                yaml.Wrong(item, "'default' is on or off");
            features.Add(new PackageFeature(Text("name"), Text("title") is { Length: > 0 } title ? title : Text("name"), Text("parent"),
                Text("default") is "on" or "yes", ReadPart(yaml, map)));
        }
        if (node is not (null or YamlSequenceNode))
            yaml.Wrong(node, "'features' is a list");
        foreach (var feature in features)
        {
            if (features.Count(f => f.Name.Equals(feature.Name, StringComparison.OrdinalIgnoreCase)) > 1)
                yaml.Wrong(node!, $"the feature '{feature.Name}' is there twice");
            // Up its parents; one that is met again is a circle. Parents in other packages end the way.
            var seen = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
            for (var at = feature; at is not null; at = features.Find(f => f.Name.Equals(at.Parent, StringComparison.OrdinalIgnoreCase)))
            {
                if (seen.Add(at.Name))
                    continue;
                yaml.Wrong(node!, $"the parents of '{feature.Name}' go in a circle");
                break;
            }
        }
        return features;
    }

    private static Dictionary<string, ChunkId> ReadHashes(YamlFile yaml, YamlNode? node)
    {
        var hashes = new Dictionary<string, ChunkId>(StringComparer.OrdinalIgnoreCase);
        foreach (var (key, value) in (IEnumerable<KeyValuePair<YamlNode, YamlNode>>?)(node as YamlMappingNode)?.Children ?? [])
        {
            var path = (key as YamlScalarNode)?.Value ?? "";
            if (!IsInside(path) || !ChunkId.TryParse((value as YamlScalarNode)?.Value, out var hash))
                yaml.Wrong(key, $"'{path}' with its hash is a path inside of the package and 64 hexadecimal digits");
            else if (!hashes.TryAdd(path, hash))
                yaml.Wrong(key, $"'{path}' is there twice");
        }
        if (node is not (null or YamlMappingNode))
            yaml.Wrong(node, "'hashes' is a mapping of files to hashes");
        return hashes;
    }

    /// <summary>Whether a path stays inside of the package.</summary>
    internal static bool IsInside(string path) =>
        path.Length > 0 && path[0] != '/' && !path.Contains('\\')
        && path.TrimEnd('/').Split('/').All(p => p is not ("" or "." or "..") && WindowsPath.IsUsableName(p));

    private static bool IsTarget(string path) =>
        path.Length > 0 && path.Split('/', '\\').Where(p => p.Length > 0).ToList() is { Count: > 0 } parts
        && parts.TrueForAll(p => p is not ("." or "..") && (Glob.IsPattern(p) || WindowsPath.IsUsableName(p)));

    /// <summary>The files that parts of it lay down: path in the package, path in the image, hash.</summary>
    public IEnumerable<(string From, string To, ChunkId Hash)> Laid(IEnumerable<PackagePart> parts)
    {
        foreach (var files in parts.SelectMany(p => p.Files))
        {
            if (Hashes.TryGetValue(files.From, out var one))
                yield return (files.From, files.To, one);
            else
            {
                foreach (var (file, hash) in Hashes.Where(h => h.Key.StartsWith(files.From + "/", StringComparison.OrdinalIgnoreCase))
                    .OrderBy(h => h.Key, StringComparer.Ordinal))
                    yield return (file, $"{files.To}/{file[(files.From.Length + 1)..]}", hash);
            }
        }
    }

    /// <summary>Which rule keeps it from an image, with the value; null when it is for it.</summary>
    public string? WhyNotFor(WindowsInstall install)
    {
        static bool Lacks(IReadOnlyList<string> wanted, params IEnumerable<string> there) =>
            wanted.Count > 0 && !wanted.Intersect(there, StringComparer.OrdinalIgnoreCase).Any();
        var least = LeastBuild > 0 ? $" from {LeastBuild}" : "";
        var last = LastBuild < int.MaxValue ? $" to {LastBuild}" : "";
        return Lacks(Architectures, install.Architecture, WindowsInstall.ArchitectureWord(install.Architecture))
            ? $"it is for {string.Join(", ", Architectures)}; the image is {install.Architecture}"
            : install.BuildNumber < LeastBuild || install.BuildNumber > LastBuild
            ? $"it is for builds{least}{last}; the image has {install.BuildNumber}"
            : Lacks(Editions, install.Edition) ? $"it is for the editions {string.Join(", ", Editions)}; the image is {install.Edition}"
            : Lacks(Languages, install.Languages)
            ? $"it is for the languages {string.Join(", ", Languages)}; the image has {string.Join(", ", install.Languages)}" : null;
    }
}

using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing.Files;

/// <summary>Something that no machine of the organisation needs, and what it consists of. docs/ballast.md.</summary>
public sealed record BallastRule
{
    private static readonly string[] s_lists = ["apps", "programs", "services", "tasks", "paths"], s_known = ["name", "title", .. s_lists, "registry"];

    /// <summary>What it is called, to choose it.</summary>
    public string Name { get; private init; } = "";

    /// <summary>What people call it.</summary>
    public string Title { get; private init; } = "";

    /// <summary>Provisioned apps, by name or pattern.</summary>
    public IReadOnlyList<string> Apps { get; private init; } = [];

    /// <summary>Entries of the list of installed programs, by the name that is shown, or a pattern.</summary>
    public IReadOnlyList<string> Programs { get; private init; } = [];

    /// <summary>Services, by name.</summary>
    public IReadOnlyList<string> Services { get; private init; } = [];

    /// <summary>Scheduled tasks, by path.</summary>
    public IReadOnlyList<string> Tasks { get; private init; } = [];

    /// <summary>Paths and patterns.</summary>
    public IReadOnlyList<string> Paths { get; private init; } = [];

    /// <summary>A .reg file beside the rules; empty for none.</summary>
    public string Registry { get; private init; } = "";

    /// <summary>Reads a file of rules.</summary>
    /// <exception cref="VembarException">It is not there or not such a file; all mistakes are told with their lines.</exception>
    public static IReadOnlyList<BallastRule> Read(string path)
    {
        var yaml = YamlFile.Load(path, "a file of ballast rules", "bad-rules", "docs/ballast.md");
        foreach (var key in yaml.Root.Children.Keys.Where(k => k is not YamlScalarNode { Value: "title" or "rules" }))
            yaml.Wrong(key, $"'{key}' is not known here; known are title, rules");
        var rules = new List<BallastRule>();
        if (yaml.Root.At("rules") is YamlSequenceNode { Children.Count: > 0 } list)
        {
            foreach (var item in list)
            {
                if (item is YamlMappingNode map)
                    rules.Add(Rule(yaml, map, rules, Path.GetDirectoryName(Path.GetFullPath(path))!));
                else
                    yaml.Wrong(item, $"a rule is a mapping of {string.Join(", ", s_known)}");
            }
        }
        else
            yaml.Wrong("it has no rules: 'rules' is a list");
        yaml.Throw();
        return rules;
    }

    private static BallastRule Rule(YamlFile yaml, YamlMappingNode map, List<BallastRule> before, string folder)
    {
        foreach (var key in map.Children.Keys.Where(k => !s_known.Contains((k as YamlScalarNode)?.Value)))
            yaml.Wrong(key, $"'{key}' is not known here{(s_known.MinBy(k => Archives.Likeness.Distance(k, key.ToString())) is { } near && Archives.Likeness.Distance(near, key.ToString()) <= 2 ? $"; did you mean '{near}'?" : $"; known are {string.Join(", ", s_known)}")}");
        string Text(string key) => map.At(key) is YamlScalarNode { Value: { } value } ? value : "";
        List<string> Texts(string key)
        {
            switch (map.At(key))
            {
                case null:
                    return [];
                case YamlScalarNode { Value: { Length: > 0 } text }:
                    return [text];
                case YamlSequenceNode list when list.All(i => i is YamlScalarNode { Value.Length: > 0 }):
                    return [.. list.Select(i => ((YamlScalarNode)i).Value!)];
                case var node:
                    yaml.Wrong(node, $"'{key}' is a text or a list of texts");
                    return [];
            }
        }
        if (!Packages.PackageManifest.IsName(Text("name")))
            yaml.Wrong(map, $"'{Text("name")}' is not a rule's name: letters, digits, '.', '_' and '-' are");
        else if (before.Exists(r => r.Name.Equals(Text("name"), StringComparison.OrdinalIgnoreCase)))
            yaml.Wrong(map, $"there are two rules '{Text("name")}'");
        if (!s_lists.Append("registry").Any(k => map.At(k) is not null))
            yaml.Wrong(map, $"the rule '{Text("name")}' takes nothing out: {string.Join(", ", s_lists)} and registry can");
        var paths = Texts("paths");
        foreach (var path in paths)
        {
            try
            {
                // A pattern that begins with '*' would take everything.
                if (Trees.Glob.Parse(path).FixedPart().IsRoot && Trees.Glob.IsPattern(path.Replace('\\', '/').TrimStart('/').Split('/')[0]) && !path.Contains('/'))
                    yaml.Wrong(map.At("paths")!, $"'{path}' would match what Windows is made of; name a folder first");
            }
            catch (VembarException problem)
            {
                yaml.Wrong(map.At("paths")!, problem.Message);
            }
        }
        var registry = Text("registry");
        return new BallastRule
        {
            Name = Text("name"),
            Title = Text("title") is { Length: > 0 } title ? title : Text("name"),
            Apps = Texts("apps"),
            Programs = Texts("programs"),
            Services = Texts("services"),
            Tasks = Texts("tasks"),
            Paths = paths,
            Registry = registry.Length > 0 ? Path.GetFullPath(registry, folder) : "",
        };
    }
}

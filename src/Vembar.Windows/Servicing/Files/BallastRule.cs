using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Paths;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Servicing.Files;

/// <summary>Something that no machine of the organisation needs, and what it consists of. docs/ballast.md.</summary>
public sealed record BallastRule
{
    private static readonly string[] s_lists = ["apps", "programs", "services", "tasks", "paths"],
        s_known = ["name", "title", .. s_lists, "registry"];

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
        yaml.Known(yaml.Root, ["title", "rules"]);
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
        yaml.Known(map, s_known);
        string Text(string key) => map.At(key) is YamlScalarNode { Value: { } value } ? value : "";
        List<string> Texts(string key) => yaml.Texts(map.At(key));
        if (!ServicingName.IsOne(Text("name")))
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
                if (Glob.Parse(path).FixedPart().IsRoot && Glob.IsPattern(path.Replace('\\', '/').TrimStart('/').Split('/')[0])
                    && !path.Contains('/'))
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

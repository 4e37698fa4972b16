using Vembar.Core.Servicing.Answers;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using Vembar.Core.Servicing.FirstStart;
using Vembar.Core.Servicing.Packages;
using Vembar.Core.Servicing.Registry;
using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing;

/// <summary>A work order: a YAML file that lists changes to an image. docs/work-order.md.</summary>
/// <param name="Title">What it is for; may be empty.</param>
/// <param name="Changes">The changes in their order.</param>
public sealed record WorkOrder(string Title, IReadOnlyList<IChange> Changes)
{
    private static readonly string[] s_kinds = ["driver", "driver-out", "driver-path", "package", "package-out", "feature", "answers", "registry", "first-boot", "put", "remove"];

    /// <summary>Reads a work order; paths in it are relative to the file.</summary>
    /// <param name="path">The file.</param>
    /// <param name="trust">Certificates that are trusted beside those that the order names: files and folders.</param>
    /// <param name="drivers">How drivers are let in where the order does not say.</param>
    /// <exception cref="VembarException">It is not there or not a work order; all mistakes are told with their lines.</exception>
    public static WorkOrder Read(string path, IReadOnlyList<string>? trust = null, DriverOptions? drivers = null)
    {
        var yaml = YamlFile.Load(path, "a work order", "bad-order", "docs/work-order.md");
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        var title = "";
        var trusted = new List<string>(trust ?? []);
        var models = new List<string>();
        var items = new List<(YamlNode Node, Dictionary<string, string> Fields)>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            switch ((key as YamlScalarNode)?.Value)
            {
                case "title" when value is YamlScalarNode scalar:
                    title = scalar.Value ?? "";
                    break;
                case "trust" when Texts(value) is { } certificates:
                    trusted.AddRange(certificates.Select(c => Place(c, folder)));
                    break;
                case "for" when Texts(value) is { } profiles:
                    models.AddRange(profiles.Select(p => Place(p, folder)));
                    break;
                case "changes" when value is YamlSequenceNode list:
                    foreach (var item in list)
                    {
                        if (ReadFields(item, yaml.Wrong) is { } fields)
                            items.Add((item, fields));
                    }
                    break;
                default:
                    yaml.Wrong(key, $"'{key}' is not known here, or has the wrong form; known are 'title' (text), 'trust' and 'for' (paths) and 'changes' (a list)");
                    break;
            }
        }
        if (yaml.IsSound && items.Count == 0)
            yaml.Wrong("it lists no changes");
        yaml.Throw();
        var options = drivers ?? new DriverOptions();
        if (items.Any(i => i.Fields.ContainsKey("driver") || i.Fields.ContainsKey("driver-path")))
            options = options with { Trust = DriverTrust.Load(trusted.Distinct()), For = models.Count > 0 ? HardwareProfile.ReadAll(models) : options.For };
        return new WorkOrder(title, Grouped(items, folder, options));
    }

    // Drivers under the same conditions are one change, so that of each driver the newest is taken; packages are one, so that
    // what they need is found whichever comes first.
    private static List<IChange> Grouped(List<(YamlNode Node, Dictionary<string, string> Fields)> items, string folder, DriverOptions options)
    {
        var changes = new List<IChange>();
        List<string>? packages = null;
        var groups = new Dictionary<(string Kind, DriverOptions Options), List<string>>();
        foreach (var (_, fields) in items)
        {
            var kind = s_kinds.First(fields.ContainsKey);
            var value = fields[kind];
            switch (kind)
            {
                case "driver" or "driver-path":
                    static bool Yes(string? text, bool otherwise) => text is null ? otherwise : text is "yes" or "true";
                    var own = options with
                    {
                        AllowUnsigned = Yes(fields.GetValueOrDefault("allow-unsigned"), options.AllowUnsigned),
                        ReplaceOlder = Yes(fields.GetValueOrDefault("replace-older"), options.ReplaceOlder),
                        EveryVersion = Yes(fields.GetValueOrDefault("every-version"), options.EveryVersion),
                    };
                    if (groups.TryGetValue((kind, own), out var paths))
                    {
                        paths.Add(Place(value, folder));
                        break;
                    }
                    groups[(kind, own)] = paths = [Place(value, folder)];
                    changes.Add(kind == "driver" ? new DriverChange(paths, own) : new DriverPathChange(paths, own));
                    break;
                case "package":
                    if (packages is null)
                        changes.Add(new PackageChange(packages = []));
                    packages.Add(Place(value, folder));
                    break;
                case "package-out":
                    changes.Add(new PackageOutChange(value));
                    break;
                case "feature":
                    changes.Add(new FeatureChange(value, fields.GetValueOrDefault("state") != "off", fields.GetValueOrDefault("with-dependents") is "yes" or "true"));
                    break;
                case "driver-out":
                    changes.Add(new DriverOutChange(value));
                    break;
                case "answers":
                    changes.Add(new AnswersChange(Place(value, folder)));
                    break;
                case "registry":
                    changes.Add(new RegistryChange(Place(value, folder)));
                    break;
                case "first-boot":
                    changes.Add(new FirstStartChange(new FirstStartCommand(fields.GetValueOrDefault("name") ?? "", value, Codes(fields.GetValueOrDefault("good")) ?? [0])));
                    break;
                case "remove":
                    changes.Add(new RemoveChange(value));
                    break;
                default:
                    changes.Add(new PutChange(Place(value, folder), fields["to"]));
                    break;
            }
        }
        return changes;
    }

    /// <summary>Exit codes, separated by blanks or commas; null when a word is no number.</summary>
    internal static IReadOnlyList<int>? Codes(string? text)
    {
        var codes = (text ?? "0").Split([' ', ','], StringSplitOptions.RemoveEmptyEntries).Select(c => int.TryParse(c, System.Globalization.CultureInfo.InvariantCulture, out var code) ? code : (int?)null).ToList();
        return codes.Count > 0 && codes.TrueForAll(c => c is not null) ? [.. codes.Select(c => c!.Value)] : null;
    }

    // Shown from where one stands, when that is not a longer way.
    private static string Place(string value, string folder)
    {
        var full = Path.GetFullPath(value, folder);
        var near = Path.GetRelativePath(Environment.CurrentDirectory, full);
        return near.StartsWith("..", StringComparison.Ordinal) ? full : near;
    }

    private static List<string>? Texts(YamlNode node) => node switch
    {
        YamlScalarNode { Value: { Length: > 0 } text } => [text],
        YamlSequenceNode list when list.All(i => i is YamlScalarNode { Value.Length: > 0 }) => [.. list.Select(i => ((YamlScalarNode)i).Value!)],
        _ => null,
    };

    private static Dictionary<string, string>? ReadFields(YamlNode item, Action<YamlNode, string> wrong)
    {
        if (item is not YamlMappingNode map || map.Children.Any(c => c.Key is not YamlScalarNode || c.Value is not YamlScalarNode))
        {
            wrong(item, "a change is written as 'kind: value'");
            return null;
        }
        var fields = map.Children.ToDictionary(c => ((YamlScalarNode)c.Key).Value ?? "", c => ((YamlScalarNode)c.Value).Value ?? "");
        var kinds = s_kinds.Where(fields.ContainsKey).ToList();
        if (kinds.Count != 1)
        {
            wrong(item, $"a change has exactly one of {string.Join(", ", s_kinds)}");
            return null;
        }
        string[] further = kinds[0] switch
        {
            "put" => ["to"],
            "driver" => ["allow-unsigned", "replace-older", "every-version"],
            "driver-path" => ["allow-unsigned"],
            "first-boot" => ["name", "good"],
            "feature" => ["state", "with-dependents"],
            _ => [],
        };
        if (fields.Keys.Except(kinds).Except(further).FirstOrDefault() is { } extra)
            wrong(item, $"'{extra}' is not known in a '{kinds[0]}' change");
        else if (kinds[0] == "put" && fields.GetValueOrDefault("to") is not { Length: > 0 })
            wrong(item, "a 'put' change needs 'to', the path in the image");
        else if (fields.Keys.Intersect(further).FirstOrDefault(k => k is not ("to" or "name" or "good" or "state") && fields[k] is not ("yes" or "no" or "true" or "false")) is { } flag)
            wrong(item, $"'{flag}' is yes or no");
        else if (fields.TryGetValue("state", out var state) && state is not ("on" or "off"))
            wrong(item, "'state' is on or off");
        else if (fields.TryGetValue("good", out var good) && Codes(good) is null)
            wrong(item, "'good' is a list of exit codes: 0, 3010");
        else
            return fields;
        return null;
    }
}

using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Common.Formats;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Windows.Servicing.Answers;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Files;
using Vembar.Windows.Servicing.FirstStart;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Mending;
using Vembar.Windows.Servicing.Packages;
using Vembar.Windows.Servicing.Registry;
using Vembar.Windows.Servicing.Tidying;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>A work order: a YAML file that lists changes to an image. docs/work-order.md.</summary>
/// <param name="Title">What it is for; may be empty.</param>
/// <param name="Changes">The changes in their order.</param>
/// <param name="Origin">Which file it was, for an image's history.</param>
public sealed partial record WorkOrder(string Title, IReadOnlyList<IChange> Changes, OrderOrigin Origin)
{
    /// <summary>How many changes it lists.</summary>
    public int Count { get; private init; }

    /// <summary>The files and folders that its changes name, with the kind of change.</summary>
    public IReadOnlyList<(string Kind, string Path)> Files { get; private init; } = [];

    /// <summary>The changes as they are written, with files where they are.</summary>
    internal IReadOnlyList<(string Kind, string Value, IReadOnlyDictionary<string, string> Fields)> Items { get; private init; } = [];

    /// <summary>What variables' names look like.</summary>
    internal const string VariableForm = "^[A-Za-z][A-Za-z0-9_-]*$";

    private static readonly string[] s_top = ["title", "variables", "trust", "for", "changes"];

    /// <summary>Reads a work order; paths in it are relative to the file.</summary>
    /// <param name="path">The file.</param>
    /// <param name="options">How.</param>
    /// <exception cref="VembarException">It is not there or not a work order; all mistakes are told with their lines.</exception>
    public static WorkOrder Read(string path, OrderOptions? options = null)
    {
        options ??= new OrderOptions();
        var yaml = YamlFile.Load(path, "a work order", "bad-order", "docs/work-order.md");
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        yaml.Known(yaml.Root, s_top);
        var variables = Variables(yaml, options.Variables, path);
        string Expand(YamlNode at, string text) => VariableUse().Replace(text, use =>
        {
            // $${ stands for itself.
            if (use.Value.StartsWith("$$", StringComparison.Ordinal))
                return use.Value[1..];
            var name = use.Groups[1].Value;
            if (variables.TryGetValue(name, out var value))
                return value;
            var hint = variables.Count > 0 ? EditDistance.Hint(name, variables.Keys) : "; 'variables' at the top gives names their texts";
            yaml.Wrong(at, $"there is no variable '{name}'{hint}");
            return use.Value;
        });
        List<string> Texts(string key) => yaml.Root.At(key) is { } node ? yaml.Texts(node).ConvertAll(t => Expand(node, t)) : [];
        var title = yaml.Root.At("title") is YamlScalarNode { Value: { } words } said ? Expand(said, words) : "";
        var trusted = options.Trust.Concat(Texts("trust").Select(c => Place(c, folder))).ToList();
        var models = Texts("for").ConvertAll(p => Place(p, folder));
        var items = new List<OrderItem>();
        if (yaml.Root.At("changes") is YamlSequenceNode { Children.Count: > 0 } changes)
        {
            foreach (var item in changes)
            {
                if (Item(item, yaml, Expand) is { } read)
                    items.Add(read);
            }
        }
        else
            yaml.Wrong(yaml.Root.At("changes") ?? yaml.Root, "it lists no changes: 'changes' is a list");
        var drivers = options.Drivers;
        if (items.Exists(i => i.Kind.Name is "driver" or "driver-path"))
        {
            drivers = drivers with
            {
                Trust = Validated(yaml, "trust", () => DriverTrust.Load(trusted.Distinct())) ?? drivers.Trust,
                For = models.Count > 0 ? Validated(yaml, "for", () => HardwareProfile.ReadAll(models)) ?? [] : drivers.For,
            };
        }
        yaml.Throw();
        return new WorkOrder(title, Grouped(items, folder, drivers),
            new OrderOrigin(path == InputFile.StandardInput ? "standard input" : Path.GetFileName(path), title,
                Blake3.Hash(InputFile.ReadAllBytes(path)), variables.Count > 0 ? variables : null))
        {
            Count = items.Count,
            Files = [.. items.Where(i => i.Kind.Form == OrderForm.File).Select(i => (i.Kind.Name, Place(i.Value, folder)))],
            Items = [.. items.Select(i => (i.Kind.Name, i.Kind.Form == OrderForm.File ? Place(i.Value, folder) : i.Value,
            (IReadOnlyDictionary<string, string>)i.Fields))],
        };
    }

    /// <summary>A change as the order writes it.</summary>
    private sealed record OrderItem(OrderKind Kind, string Value, Dictionary<string, string> Fields)
    {
        public bool Yes(string field, bool otherwise = false) =>
            Fields.TryGetValue(field, out var text) ? text is "yes" or "true" : otherwise;

        public string Text(string field) => Fields.GetValueOrDefault(field) ?? "";
    }

    [GeneratedRegex(@"\$?\$\{([^}]*)\}")]
    private static partial Regex VariableUse();

    [GeneratedRegex(VariableForm)]
    private static partial Regex VariableName();

    private static T? Validated<T>(YamlFile yaml, string key, Func<T> read) where T : class
    {
        try
        {
            return read();
        }
        catch (VembarException problem)
        {
            foreach (var text in problem.Details.Count > 0 ? problem.Details : [problem.Message])
            {
                if (yaml.Root.At(key) is { } node)
                    yaml.Wrong(node, text);
                else
                    yaml.Wrong(text);
            }
            return null;
        }
    }

    private static Dictionary<string, string> Variables(YamlFile yaml, IReadOnlyDictionary<string, string> given, string path)
    {
        var variables = new Dictionary<string, string>();
        switch (yaml.Root.At("variables"))
        {
            case YamlMappingNode map:
                foreach (var (key, value) in map.Children)
                {
                    if (key is YamlScalarNode { Value: { } name } && VariableName().IsMatch(name)
                        && value is YamlScalarNode { Value: { } text })
                        variables[name] = text;
                    else
                        yaml.Wrong(key, $"'{key}' is not a variable: a name of letters, digits, '_' and '-', and a text");
                }
                break;
            case { } node:
                yaml.Wrong(node, "'variables' is a mapping of names to texts");
                break;
        }
        foreach (var (name, text) in given)
        {
            if (!variables.ContainsKey(name))
                throw new VembarException(ErrorKind.Usage, "no-such-variable", $"'{path}' has no variable '{name}'",
                    variables.Count > 0 ? $"It has {string.Join(", ", variables.Keys)}."
                    : "It has none: 'variables' at its top gives names their texts.");
            variables[name] = text;
        }
        return variables;
    }

    // Orders written for earlier versions keep their word for it.
    private static string Current(string key) => key == "first-boot" ? "first-start" : key;

    // One text, or a list of texts where several are meant.
    private static bool IsText(YamlNode node) =>
        node is YamlScalarNode || (node is YamlSequenceNode { Children.Count: > 0 } list && list.Children.All(c => c is YamlScalarNode));

    private static OrderItem? Item(YamlNode item, YamlFile yaml, Func<YamlNode, string, string> expand)
    {
        if (item is not YamlMappingNode { Children.Count: > 0 } map
            || map.Children.Any(c => c.Key is not YamlScalarNode || !IsText(c.Value)))
        {
            yaml.Wrong(item, "a change is written as 'kind: value'");
            return null;
        }
        var fields = new Dictionary<string, string>();
        var lists = new List<string>();
        foreach (var (key, value) in map.Children)
        {
            var name = Current(((YamlScalarNode)key).Value ?? "");
            var text = value is YamlSequenceNode several ? string.Join(", ", several.Children.Select(c => ((YamlScalarNode)c).Value))
                : ((YamlScalarNode)value).Value ?? "";
            if (!fields.TryAdd(name, expand(value, text)))
                yaml.Wrong(key, $"'{name}' is said twice; each change is an item of its own");
            else if (value is YamlSequenceNode)
                lists.Add(name);
        }
        var kinds = OrderKind.All.Where(k => fields.ContainsKey(k.Name)).ToList();
        var names = OrderKind.All.Select(k => k.Name).ToList();
        if (kinds is not [var kind])
        {
            var first = fields.Keys.First();
            var meant = EditDistance.Nearest(first, names) is { } near ? $"; did you mean '{near}'?" : "";
            yaml.Wrong(item,
                kinds.Count > 1 ? $"it is {string.Join(" and ", kinds.Select(k => k.Name))} at once; each change is an item of its own"
                : $"a change has exactly one of "
                + $"{string.Join(", ", names)}{meant}");
            return null;
        }
        var problems = new List<string>();
        foreach (var extra in fields.Keys.Where(f => f != kind.Name && !kind.Further.Any(k => k.Name == f)))
            problems.Add($"'{extra}' is not known in a '{kind.Name}' change{EditDistance.Hint(extra, kind.Further.Select(f => f.Name))}");
        foreach (var list in lists.Where(l => !kind.MayBeList(l)))
            problems.Add($"'{list}' takes one text and no list; each change is an item of its own");
        if (fields[kind.Name].Length == 0)
            problems.Add($"'{kind.Name}' is empty");
        else if (OrderKind.Unknown(Words(fields[kind.Name]), kind.Choices) is { } unknown)
            problems.Add($"'{kind.Name}' does not know '{unknown}'{EditDistance.Hint(unknown, kind.Choices)}");
        foreach (var field in kind.Further)
        {
            if (!fields.TryGetValue(field.Name, out var value))
            {
                if (field.Needed)
                    problems.Add($"a '{kind.Name}' change needs '{field.Name}': {field.Meaning}");
            }
            else if (OrderKind.Problem(field, value) is { } problem)
                problems.Add(problem);
        }
        foreach (var problem in problems)
            yaml.Wrong(item, problem);
        return problems.Count == 0 ? new OrderItem(kind, fields[kind.Name], fields) : null;
    }

    // Drivers under the same conditions are one change, so that of each driver the newest is taken; packages are one, so that
    // what they need is found whichever comes first. Those that may fail are kept apart from those that may not.
    private static List<IChange> Grouped(List<OrderItem> items, string folder, DriverOptions options)
    {
        var changes = new List<IChange>();
        var groups = new Dictionary<(string Kind, DriverOptions? Options, bool Optional), List<string>>();
        foreach (var item in items)
        {
            var optional = item.Yes(OrderKind.Optional.Name);
            var value = item.Kind.Form == OrderForm.File ? Place(item.Value, folder) : item.Value;
            void Add(IChange change) => changes.Add(optional ? new OptionalChange(change) : change);
            void Group(DriverOptions? conditions, Func<List<string>, IChange> make)
            {
                var key = (item.Kind.Name, conditions, optional);
                if (!groups.TryGetValue(key, out var values))
                    Add(make(groups[key] = values = []));
                values.Add(value);
            }
            DriverOptions Conditions() => options with
            {
                AllowUnsigned = item.Yes("allow-unsigned", options.AllowUnsigned),
                ReplaceOlder = item.Yes("replace-older", options.ReplaceOlder),
                EveryVersion = item.Yes("every-version", options.EveryVersion),
            };
            switch (item.Kind.Name)
            {
                case "driver":
                    var own = Conditions();
                    Group(own, paths => new DriverChange(paths, own));
                    break;
                case "driver-path":
                    var conditions = Conditions();
                    Group(conditions, paths => new DriverPathChange(paths, conditions));
                    break;
                case "package":
                    Group(null, paths => new PackageChange(paths));
                    break;
                default:
                    Add(Single(item, value));
                    break;
            }
        }
        return changes;
    }

    private static IChange Single(OrderItem item, string value) => item.Kind.Name switch
    {
        "driver-out" => new DriverRemoval(value),
        "package-out" => new PackageRemoval(value),
        "feature" => new FeatureChange(value, item.Text("state") != "off", item.Yes("with-dependents")),
        "locale" => new LocaleChange(value, Words(item.Text("parts")), item.Text("keyboard")),
        "time-zone" => new TimeZoneChange(value),
        "answers" => new AnswersChange(value, item.Yes("merge")),
        "registry" => new RegistryChange(value),
        "first-start" =>
            new FirstStartChange(new FirstStartCommand(item.Text("name"), value,
            ExitCodes.Parse(item.Fields.GetValueOrDefault("good")) ?? [0])),
        "put" => new PutChange(value, item.Text("to")),
        "remove" => new RemoveChange(value),
        "ballast" => new BallastChange(value, Words(item.Text("rules"))),
        "mend" => new MendChange(Words(value)),
        "tidy" => new TidyChange(Words(value)),
        var other => throw new InvalidOperationException($"nothing makes '{other}'"),
    };

    /// <summary>Words, separated by blanks or commas.</summary>
    internal static IReadOnlyList<string> Words(string text) => text.Split([' ', ','], StringSplitOptions.RemoveEmptyEntries);

    // Shown from where one stands, when that is not a longer way.
    private static string Place(string value, string folder)
    {
        var full = Path.GetFullPath(value, folder);
        var near = Path.GetRelativePath(Environment.CurrentDirectory, full);
        return near.StartsWith("..", StringComparison.Ordinal) ? full : near;
    }
}

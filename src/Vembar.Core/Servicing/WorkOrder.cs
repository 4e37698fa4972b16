using System.Globalization;
using Vembar.Core.Servicing.Answers;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing;

/// <summary>A work order: a YAML file that lists changes to an image. docs/work-order.md.</summary>
/// <param name="Title">What it is for; may be empty.</param>
/// <param name="Changes">The changes in their order.</param>
public sealed record WorkOrder(string Title, IReadOnlyList<IChange> Changes)
{
    private const long Longest = 1 << 20;

    /// <summary>Reads a work order; paths in it are relative to the file.</summary>
    /// <exception cref="VembarException">It is not there or not a work order; all mistakes are told with their lines.</exception>
    public static WorkOrder Read(string path)
    {
        string text;
        try
        {
            if (new FileInfo(path).Length > Longest)
                throw VembarException.Input("bad-order", $"'{path}' is too long to be a work order");
            text = File.ReadAllText(path);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read the work order", path) is { } error)
        {
            throw error;
        }
        try
        {
            var yaml = new YamlStream();
            yaml.Load(new StringReader(text));
            if (yaml.Documents is not [{ RootNode: YamlMappingNode root }])
                throw VembarException.Input("bad-order", $"'{path}' is not a work order: it must be a mapping with 'changes'", "See docs/work-order.md.");
            return Read(path, root);
        }
        catch (YamlException problem)
        {
            throw VembarException.Input("bad-order", string.Create(CultureInfo.InvariantCulture, $"'{path}', line {problem.Start.Line}: {problem.Message.Split('\n')[0]}"), "Mend the YAML.");
        }
    }

    private static WorkOrder Read(string path, YamlMappingNode root)
    {
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        var problems = new List<string>();
        void Wrong(YamlNode node, string problem) => problems.Add(string.Create(CultureInfo.InvariantCulture, $"line {node.Start.Line}: {problem}"));
        var title = "";
        var changes = new List<IChange>();
        foreach (var (key, value) in root.Children)
        {
            switch ((key as YamlScalarNode)?.Value)
            {
                case "title" when value is YamlScalarNode scalar:
                    title = scalar.Value ?? "";
                    break;
                case "changes" when value is YamlSequenceNode list:
                    foreach (var item in list)
                    {
                        if (ReadChange(item, folder, Wrong) is { } change)
                            changes.Add(change);
                    }
                    break;
                default:
                    Wrong(key, $"'{key}' is not known here, or has the wrong form; known are 'title' (text) and 'changes' (a list)");
                    break;
            }
        }
        if (problems.Count == 0 && changes.Count == 0)
            problems.Add("it lists no changes");
        return problems.Count == 0 ? new WorkOrder(title, changes)
            : throw VembarException.Input("bad-order", $"'{path}' is not a valid work order: {problems[0]}", "See docs/work-order.md.", problems.Count > 1 ? problems : []);
    }

    private static IChange? ReadChange(YamlNode item, string folder, Action<YamlNode, string> wrong)
    {
        if (item is not YamlMappingNode map || map.Children.Any(c => c.Key is not YamlScalarNode || c.Value is not YamlScalarNode))
        {
            wrong(item, "a change is written as 'kind: value'");
            return null;
        }
        var fields = map.Children.ToDictionary(c => ((YamlScalarNode)c.Key).Value ?? "", c => ((YamlScalarNode)c.Value).Value ?? "");
        // Shown from where one stands, when that is not a longer way.
        string File(string value)
        {
            var full = Path.GetFullPath(value, folder);
            var near = Path.GetRelativePath(Environment.CurrentDirectory, full);
            return near.StartsWith("..", StringComparison.Ordinal) ? full : near;
        }
        var kinds = new[] { "driver", "answers", "put", "remove" }.Where(fields.ContainsKey).ToList();
        var extra = fields.Keys.Except(kinds).Where(k => !(k == "to" && fields.ContainsKey("put"))).ToList();
        if (kinds.Count != 1 || extra.Count > 0)
        {
            wrong(item, kinds.Count == 1 ? $"'{extra[0]}' is not known in a '{kinds[0]}' change" : "a change has exactly one of driver, answers, put (with to), remove");
            return null;
        }
        switch (kinds[0])
        {
            case "driver":
                return new DriverChange(File(fields["driver"]));
            case "answers":
                return new AnswersChange(File(fields["answers"]));
            case "remove":
                return new RemoveChange(fields["remove"]);
            default:
                if (fields.TryGetValue("to", out var target) && target.Length > 0)
                    return new PutChange(File(fields["put"]), target);
                wrong(item, "a 'put' change needs 'to', the path in the image");
                return null;
        }
    }
}

using Vembar.Core.Servicing.Answers;
using Vembar.Core.Servicing.Drivers;
using Vembar.Core.Servicing.Files;
using YamlDotNet.RepresentationModel;

namespace Vembar.Core.Servicing;

/// <summary>A work order: a YAML file that lists changes to an image. docs/work-order.md.</summary>
/// <param name="Title">What it is for; may be empty.</param>
/// <param name="Changes">The changes in their order.</param>
public sealed record WorkOrder(string Title, IReadOnlyList<IChange> Changes)
{
    /// <summary>Reads a work order; paths in it are relative to the file.</summary>
    /// <exception cref="VembarException">It is not there or not a work order; all mistakes are told with their lines.</exception>
    public static WorkOrder Read(string path)
    {
        var yaml = YamlFile.Load(path, "a work order", "bad-order", "docs/work-order.md");
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        var title = "";
        var changes = new List<IChange>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            switch ((key as YamlScalarNode)?.Value)
            {
                case "title" when value is YamlScalarNode scalar:
                    title = scalar.Value ?? "";
                    break;
                case "changes" when value is YamlSequenceNode list:
                    foreach (var item in list)
                    {
                        if (ReadChange(item, folder, yaml.Wrong) is { } change)
                            changes.Add(change);
                    }
                    break;
                default:
                    yaml.Wrong(key, $"'{key}' is not known here, or has the wrong form; known are 'title' (text) and 'changes' (a list)");
                    break;
            }
        }
        if (yaml.IsSound && changes.Count == 0)
            yaml.Wrong("it lists no changes");
        yaml.Throw();
        return new WorkOrder(title, changes);
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

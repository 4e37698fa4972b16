using System.Text.RegularExpressions;
using Vembar.Common.Formats;
using YamlDotNet.RepresentationModel;

namespace Vembar.Station.Hosting;

/// <summary>Reads `power:` of station.yaml.</summary>
internal static partial class PowerFile
{
    private static readonly TimeSpan s_usual = TimeSpan.FromSeconds(30), s_most = TimeSpan.FromMinutes(10);

    [GeneratedRegex("\\{([^{}]*)\\}")]
    private static partial Regex Word();

    /// <summary>What stands there; mistakes are kept with their lines.</summary>
    /// <param name="yaml">The file.</param>
    /// <param name="node">What stands at `power`; null for nothing.</param>
    public static IReadOnlyList<PowerCommand> Read(YamlFile yaml, YamlNode? node)
    {
        if (node is null)
            return [];
        if (node is not YamlMappingNode map)
        {
            yaml.Wrong(node, "'power' is a mapping of sites to commands; '*' is for all other sites");
            return [];
        }
        var commands = new List<PowerCommand>();
        foreach (var (key, value) in map.Children)
        {
            if (key is not YamlScalarNode { Value: { Length: > 0 } site } || value is not YamlMappingNode command)
            {
                yaml.Wrong(key, "a site has a mapping with 'command', and maybe 'limit'");
                continue;
            }
            yaml.Known(command, ["command", "limit"]);
            IReadOnlyList<string> arguments = yaml.Texts(command.At("command")) ?? [];
            if (arguments.Count == 0 || !arguments[0].StartsWith('/'))
                yaml.Wrong(value, "'command' is a list: the whole path of a program, and its arguments");
            if (arguments.SelectMany(a => Word().Matches(a)).Select(m => m.Groups[1].Value)
                .FirstOrDefault(w => !PowerCommand.Words.Contains(w)) is { } unknown)
                yaml.Wrong(value, $"'{{{unknown}}}' stands for nothing: "
                    + string.Join(", ", PowerCommand.Words.Select(w => $"{{{w}}}")) + " do");
            commands.Add(new PowerCommand(site, arguments, LimitOf(yaml, command.At("limit"))));
        }
        return commands;
    }

    private static TimeSpan LimitOf(YamlFile yaml, YamlNode? node)
    {
        if (node is null)
            return s_usual;
        if (node is YamlScalarNode { Value: { } text } && YamlTime.TryParse(text, out var limit) && limit <= s_most)
            return limit;
        yaml.Wrong(node, "'limit' is a time of 1 s to 10 min: write for instance \"30 s\"");
        return s_usual;
    }
}

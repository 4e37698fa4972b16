using System.Globalization;
using System.Text;
using Vembar.Common.Files;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;
using YamlDotNet.RepresentationModel;

namespace Vembar.Common.Formats;

/// <summary>A YAML file of the user's: read whole, every mistake told with its line.</summary>
internal sealed class YamlFile
{
    private const long Longest = 1 << 20;
    private readonly string _path;
    private readonly string _code;
    private readonly string _what;
    private readonly string _page;
    private readonly List<string> _problems = [];

    private YamlFile(string path, string what, string code, string page, YamlMappingNode root)
    {
        _path = path;
        _what = what;
        _code = code;
        _page = page;
        Root = root;
    }

    /// <summary>Reads a file whose top is a mapping.</summary>
    /// <param name="path">The file.</param>
    /// <param name="what">What it is, with its article ("a work order").</param>
    /// <param name="code">The code of errors in it.</param>
    /// <param name="page">The page that describes it.</param>
    /// <exception cref="VembarException">It is not there, too long, or not YAML of that form.</exception>
    public static YamlFile Load(string path, string what, string code, string page)
    {
        string text;
        try
        {
            using var file = InputFile.OpenRead(path);
            if (file.Length > Longest)
                throw VembarException.Input(code, $"'{path}' is too long to be {what}");
            using var reader = new StreamReader(file, Encoding.UTF8, detectEncodingFromByteOrderMarks: true);
            text = reader.ReadToEnd();
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, $"read the {what[(what.IndexOf(' ') + 1)..]}", path) is { } error)
        {
            throw error;
        }
        return Parse(text, path, what, code, page);
    }

    /// <summary>Reads a text whose top is a mapping.</summary>
    /// <exception cref="VembarException">It is not YAML of that form.</exception>
    public static YamlFile Parse(string text, string path, string what, string code, string page)
    {
        try
        {
            CheckDepth(text);
            var yaml = new YamlStream();
            yaml.Load(new StringReader(text));
            return yaml.Documents is [{ RootNode: YamlMappingNode root }] ? new YamlFile(path, what, code, page, root)
                : throw VembarException.Input(code, $"'{path}' is not {what}: it must be a mapping", $"See {page}.");
        }
        catch (Exception failure) when (failure is InvalidOperationException or ArgumentException)
        {
            // The library's word for some texts that are cut off.
            throw VembarException.Input(code, $"'{path}' is not YAML", $"See {page}.");
        }
        catch (YamlException problem)
        {
            throw VembarException.Input(code, string.Create(CultureInfo.InvariantCulture,
                $"'{path}', line {problem.Start.Line}: {problem.Message.Split('\n')[0]}"), "Fix the YAML there.");
        }
    }

    // The reader of trees calls itself for each step down, and compares aliases that lead nowhere, or into themselves, without end:
    // either way a hostile text could end the program.
    private static void CheckDepth(string text)
    {
        const int Deepest = 64;
        var parser = new Parser(new StringReader(text));
        var open = new Stack<AnchorName>();
        var known = new HashSet<AnchorName>();
        while (parser.MoveNext())
        {
            switch (parser.Current)
            {
                case MappingStart or SequenceStart:
                    open.Push(((NodeEvent)parser.Current).Anchor);
                    if (open.Count > Deepest)
                        throw new YamlException(parser.Current.Start, parser.Current.End, $"it is nested more than {Deepest} deep");
                    break;
                case MappingEnd or SequenceEnd:
                    known.Add(open.Pop());
                    break;
                case Scalar scalar:
                    known.Add(scalar.Anchor);
                    break;
                case AnchorAlias alias when !known.Contains(alias.Value):
                    throw new YamlException(alias.Start, alias.End, $"the alias '*{alias.Value}' names nothing that ends before it");
                default:
                    break;
            }
        }
    }

    public YamlMappingNode Root { get; }

    /// <summary>Keeps a mistake.</summary>
    public void Wrong(YamlNode node, string problem) =>
        _problems.Add(string.Create(CultureInfo.InvariantCulture, $"line {node.Start.Line}: {problem}"));

    /// <summary>Keeps a mistake that has no line.</summary>
    public void Wrong(string problem) => _problems.Add(problem);

    public bool IsSound => _problems.Count == 0;

    /// <summary>A mapping of names to texts; null, and a mistake kept, when it is something else or has names that are not known.</summary>
    public Dictionary<string, string>? Fields(YamlNode node, params IReadOnlyList<string> known)
    {
        if (node is not YamlMappingNode map || map.Children.Any(c => c.Key is not YamlScalarNode || c.Value is not YamlScalarNode))
        {
            Wrong(node, $"a mapping of {string.Join(", ", known)} to texts is wanted");
            return null;
        }
        var fields = map.Children.ToDictionary(c => ((YamlScalarNode)c.Key).Value ?? "", c => ((YamlScalarNode)c.Value).Value ?? "");
        foreach (var key in map.Children.Keys.Where(k => !known.Contains(((YamlScalarNode)k).Value ?? "")))
            Wrong(key, $"'{key}' is not known here{EditDistance.Hint(key.ToString(), known)}");
        return fields;
    }

    /// <summary>A text, or a list of texts; nothing where there is none, or a mistake kept when it is something else.</summary>
    public List<string> Texts(YamlNode? node)
    {
        switch (node)
        {
            case null:
                return [];
            case YamlScalarNode { Value: { Length: > 0 } text }:
                return [text];
            case YamlSequenceNode list when list.All(i => i is YamlScalarNode { Value.Length: > 0 }):
                return [.. list.Select(i => ((YamlScalarNode)i).Value!)];
            default:
                Wrong(node, "a text, or a list of texts, is wanted");
                return [];
        }
    }

    /// <summary>Keeps a mistake for every key that is not known.</summary>
    public void Known(YamlMappingNode map, IReadOnlyList<string> known)
    {
        foreach (var key in map.Children.Keys.Where(k => !known.Contains((k as YamlScalarNode)?.Value)))
            Wrong(key, $"'{key}' is not known here{EditDistance.Hint(key.ToString(), known)}");
    }

    /// <summary>All mistakes, told together.</summary>
    /// <exception cref="VembarException">There are any.</exception>
    public void Throw()
    {
        if (_problems.Count > 0)
            throw VembarException.Input(_code, $"'{_path}' is not a valid {_what[(_what.IndexOf(' ') + 1)..]}: {_problems[0]}",
                $"See {_page}.", [.. _problems.Skip(1)]);
    }
}

using System.Globalization;
using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Common.Formats;
using YamlDotNet.RepresentationModel;

namespace Vembar.Operations.Builds;

/// <summary>Fills in a recipe's variables; built-in ones are looked up when they are first used, and each may use others.</summary>
internal sealed partial class RecipeVariables
{
    private readonly YamlFile _yaml;
    private readonly Dictionary<string, string> _own = new(StringComparer.Ordinal);
    private readonly Dictionary<string, string> _known = new(StringComparer.Ordinal);
    private readonly HashSet<string> _asked = new(StringComparer.Ordinal);
    private readonly Dictionary<string, Func<string>> _builtIn;

    /// <summary>The names of built-in variables.</summary>
    public static IReadOnlyList<string> BuiltIn { get; } = ["year", "month", "day", "week", "date", "version", "build"];

    public RecipeVariables(YamlFile yaml, RecipeOptions options, Func<string> build, Func<string> version)
    {
        _yaml = yaml;
        var today = options.Today.ToDateTime(TimeOnly.MinValue);
        _builtIn = new Dictionary<string, Func<string>>(StringComparer.Ordinal)
        {
            ["year"] = () => today.ToString("yyyy", CultureInfo.InvariantCulture),
            ["month"] = () => today.ToString("MM", CultureInfo.InvariantCulture),
            ["day"] = () => today.ToString("dd", CultureInfo.InvariantCulture),
            ["week"] = () => ISOWeek.GetWeekOfYear(today).ToString("00", CultureInfo.InvariantCulture),
            ["date"] = () => today.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            ["version"] = version,
            ["build"] = build,
        };
        foreach (var (key, value) in yaml.Root.At("variables") is YamlMappingNode map ? map.Children.ToList() : [])
        {
            if (key is not YamlScalarNode { Value: { Length: > 0 } name } || value is not YamlScalarNode { Value: { } text })
                yaml.Wrong(key, "'variables' gives names their texts");
            else if (!NameForm().IsMatch(name))
                yaml.Wrong(key, $"'{name}' cannot be a variable: letters, digits, '-' and '_', a letter first");
            else if (_builtIn.ContainsKey(name))
                yaml.Wrong(key, $"'{name}' is built in, and cannot be given another text");
            else
                _own[name] = text;
        }
        foreach (var (name, text) in options.Variables)
        {
            if (_own.ContainsKey(name))
                _own[name] = text;
            else
                yaml.Wrong($"there is no variable '{name}' to be set{EditDistance.Hint(name, _own.Keys)}");
        }
    }

    /// <summary>Those that were used, and the recipe's own.</summary>
    public IReadOnlyDictionary<string, string> Known => _known;

    /// <summary>Fills in a text.</summary>
    public string Expand(YamlNode at, string text) => Use().Replace(text, use =>
        // $${ stands for itself.
        use.Value.StartsWith("$$", StringComparison.Ordinal) ? use.Value[1..] : Resolve(at, use.Groups[1].Value));

    private string Resolve(YamlNode at, string name)
    {
        if (_known.TryGetValue(name, out var known))
            return known;
        if (!_own.TryGetValue(name, out var own) && !_builtIn.ContainsKey(name))
        {
            _yaml.Wrong(at, $"there is no variable '{name}'{EditDistance.Hint(name, [.. _own.Keys, .. BuiltIn])}");
            return "";
        }
        if (!_asked.Add(name))
        {
            _yaml.Wrong(at, $"the variable '{name}' leads back to itself");
            return "";
        }
        var text = own is null ? _builtIn[name]() : Expand(at, own);
        _asked.Remove(name);
        return _known[name] = text;
    }

    [GeneratedRegex(@"\$?\$\{([^}]*)\}")]
    private static partial Regex Use();

    [GeneratedRegex("^[A-Za-z][A-Za-z0-9_-]*$")]
    private static partial Regex NameForm();
}

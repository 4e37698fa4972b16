using System.Globalization;
using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Inspection;

/// <summary>A check of the organisation's own: what must be so, and what is said when it is not. docs/readiness.md.</summary>
public sealed class ReadinessRule
{
    private static readonly string[] s_starts = ["boot", "system", "automatic", "on-demand", "disabled"];
    private static readonly TimeSpan s_longestMatch = TimeSpan.FromSeconds(2);

    private readonly string _check;
    private readonly Severity _severity;
    private readonly string _text;
    private readonly string _mend;
    private readonly Func<IReadOnlyTree, Func<string, RegistryHive?>, string, string?> _violation;

    private ReadinessRule(string check, Severity severity, string text, string mend,
        Func<IReadOnlyTree, Func<string, RegistryHive?>, string, string?> violation)
    {
        _check = check;
        _severity = severity;
        _text = text;
        _mend = mend;
        _violation = violation;
    }

    internal IEnumerable<Finding> Check(IReadOnlyTree source, Func<string, RegistryHive?> hive, string windows)
    {
        if (_violation(source, hive, windows) is { } found)
            yield return new Finding(_check, _severity, _text, found, _mend);
    }

    /// <summary>Reads a file of rules.</summary>
    /// <exception cref="VembarException">It is not there or not one; all mistakes are told with their lines.</exception>
    public static IReadOnlyList<ReadinessRule> Read(string path)
    {
        var yaml = YamlFile.Load(path, "a file of readiness rules", "bad-rules", "docs/readiness.md");
        var rules = new List<ReadinessRule>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            if (key is YamlScalarNode { Value: "rules" } && value is YamlSequenceNode list)
            {
                foreach (var item in list)
                {
                    if (ReadRule(yaml, item) is { } rule)
                        rules.Add(rule);
                }
            }
            else
                yaml.Wrong(key, $"'{key}' is not known here, or has the wrong form; known is 'rules' (a list)");
        }
        if (yaml.IsSound && rules.Count == 0)
            yaml.Wrong("it lists no rules");
        yaml.Throw();
        return rules;
    }

    private static ReadinessRule? ReadRule(YamlFile yaml, YamlNode item)
    {
        if (yaml.Fields(item, "check", "severity", "text", "mend", "registry", "value", "file", "service", "present", "equals", "matches",
            "start") is not { } fields)
            return null;
        string? Missing(string key) => fields.TryGetValue(key, out var value) && value.Length > 0 ? null : key;
        if (((string?[])[Missing("check"), Missing("text"), Missing("mend")]).OfType<string>().ToList() is { Count: > 0 } missing)
        {
            yaml.Wrong(item, $"a rule needs {string.Join(", ", missing)}");
            return null;
        }
        if (!Enum.TryParse<Severity>(fields.GetValueOrDefault("severity", "warn"), ignoreCase: true, out var severity)
            || !Enum.IsDefined(severity))
            yaml.Wrong(item, $"the severity '{fields["severity"]}' is not one of stop, warn, note");
        var kinds = ((string[])["registry", "file", "service"]).Where(fields.ContainsKey).ToList();
        var demands = ((string[])["present", "equals", "matches", "start"]).Where(fields.ContainsKey).ToList();
        if (kinds is not [var kind] || demands is not [var demand])
        {
            yaml.Wrong(item, "a rule has exactly one of registry, file, service, and exactly one of present, equals, matches, start");
            return null;
        }
        if ((kind == "service") != (demand == "start") || (kind == "file" && demand != "present"))
        {
            yaml.Wrong(item,
                $"a {kind} rule cannot have '{demand}': registry takes present, equals or matches; file takes present; "
                    + $"service takes start");
            return null;
        }
        if (demand == "present" && fields["present"] is not ("yes" or "no" or "true" or "false"))
            yaml.Wrong(item, "'present' is yes or no");
        var violation = kind switch
        {
            "registry" => Registry(yaml, item, fields),
            "file" => FileRule(yaml, item, fields),
            _ => Service(yaml, item, fields),
        };
        return violation is null ? null : new ReadinessRule(fields["check"], severity, fields["text"], fields["mend"], violation);
    }

    private static bool Wanted(Dictionary<string, string> fields) => fields["present"] is "yes" or "true";

    private static Func<IReadOnlyTree, Func<string, RegistryHive?>, string, string?>? Registry(YamlFile yaml, YamlNode item,
        Dictionary<string, string> fields)
    {
        var whole = fields["registry"].Replace('/', '\\');
        var cut = whole.IndexOf('\\');
        var name = cut > 0 ? whole[..cut].ToUpperInvariant() : "";
        if (name is not ("SYSTEM" or "SOFTWARE" or "SAM" or "SECURITY" or "DEFAULT" or ReadinessCheck.NewUsers))
        {
            yaml.Wrong(item,
                $@"'{whole}' does not begin with a hive: write SOFTWARE\..., SYSTEM\..., SAM\..., SECURITY\..., "
                + $@"DEFAULT\... or {ReadinessCheck.NewUsers}\... (what new users get)");
            return null;
        }
        var path = whole[(cut + 1)..];
        var value = fields.GetValueOrDefault("value");
        if (!fields.ContainsKey("present") && value is null)
        {
            yaml.Wrong(item, "'equals' and 'matches' need 'value', the name of the value");
            return null;
        }
        Regex? pattern = null;
        if (fields.TryGetValue("matches", out var expression))
        {
            try
            {
                pattern = new Regex(expression, RegexOptions.CultureInvariant | RegexOptions.IgnoreCase, s_longestMatch);
            }
            catch (ArgumentException problem)
            {
                yaml.Wrong(item, $"'{expression}' is not a regular expression: {problem.Message}");
                return null;
            }
        }
        return (_, hive, _) =>
        {
            var root = hive(name);
            // In SYSTEM a path may leave out which control set it is in.
            var key = root?.Key(path) ?? (root is not null && name == "SYSTEM" ? WindowsInstall.ControlSet(root)?.Key(path) : null);
            var text = value is null || key is null ? null : TextOf(key, value);
            var displayName = value is null ? whole : $@"{whole}\{value}";
            if (fields.ContainsKey("present"))
            {
                var isThere = value is null ? key is not null : text is not null;
                var said = text is null ? "" : $": {text}";
                return isThere == Wanted(fields) ? null
                    : isThere ? $"{displayName} is there{said}" : $"{displayName} is missing";
            }
            if (text is null)
                return $"{displayName} is missing";
            var isRight = pattern is null ? text.Equals(fields["equals"], StringComparison.OrdinalIgnoreCase) : pattern.IsMatch(text);
            return isRight ? null : $"{displayName} is {text}";
        };
    }

    private static string? TextOf(RegistryKey key, string value) => key.Get(value) switch
    {
        null => null,
        (RegistryType.Dword, _) => key.GetDword(value)?.ToString(CultureInfo.InvariantCulture),
        (RegistryType.String or RegistryType.ExpandString, _) => key.GetString(value),
        (RegistryType.MultiString, _) => string.Join(", ", key.GetStrings(value) ?? []),
        (_, var bytes) => Convert.ToHexStringLower(bytes),
    };

    private static Func<IReadOnlyTree, Func<string, RegistryHive?>, string, string?>? FileRule(YamlFile yaml, YamlNode item,
        Dictionary<string, string> fields)
    {
        WindowsPath path;
        try
        {
            path = WindowsPath.Parse(fields["file"]);
        }
        catch (VembarException problem)
        {
            yaml.Wrong(item, problem.Message);
            return null;
        }
        return (source, _, _) => source.Exists(path) == Wanted(fields) ? null : Wanted(fields) ? $"{path} is missing" : $"{path} is there";
    }

    private static Func<IReadOnlyTree, Func<string, RegistryHive?>, string, string?>? Service(YamlFile yaml, YamlNode item,
        Dictionary<string, string> fields)
    {
        var wanted = Array.IndexOf(s_starts, fields["start"]);
        if (wanted < 0)
        {
            yaml.Wrong(item, $"the start '{fields["start"]}' is not one of {string.Join(", ", s_starts)}");
            return null;
        }
        return (_, hive, _) =>
        {
            var start = hive("SYSTEM") is { } system
                ? WindowsInstall.ControlSet(system)?.Key($@"Services\{fields["service"]}")?.GetDword("Start") : null;
            if (start is null)
                return $"there is no service {fields["service"]}";
            var starts = start < s_starts.Length ? s_starts[start.Value] : $"as {start}";
            return start == wanted ? null
                : $"the service {fields["service"]} starts {starts}, not "
                + $"{fields["start"]}";
        };
    }
}

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
    private readonly Func<InstallView, string?> _violation;

    private ReadinessRule(string check, Severity severity, string text, string mend,
        Func<InstallView, string?> violation)
    {
        _check = check;
        _severity = severity;
        _text = text;
        _mend = mend;
        _violation = violation;
    }

    /// <summary>Looks whether it is so.</summary>
    /// <returns>The finding; null when it is so.</returns>
    internal Finding? Check(InstallView install) =>
        _violation(install) is { } found ? new Finding(_check, _severity, _text, found, _mend) : null;

    /// <summary>The finding's short word.</summary>
    public string Word => _check;

    /// <summary>Whether it names another file, which has to be where it is looked at.</summary>
    public bool NamesFile { get; private init; }

    /// <summary>How much it weighs.</summary>
    public Severity Severity => _severity;

    /// <summary>What is said when it is not so; of an expectation, what is expected.</summary>
    public string Text => _text;

    /// <summary>Reads a file of rules.</summary>
    /// <exception cref="VembarException">It is not there or not one; all mistakes are told with their lines.</exception>
    public static IReadOnlyList<ReadinessRule> Read(string path) =>
        Read(path, "rules", "a file of readiness rules", "bad-rules", "docs/readiness.md", isExpectation: false);

    /// <summary>Reads a file of expectations: rules of which each says itself what is expected.</summary>
    /// <exception cref="VembarException">It is not there or not one; all mistakes are told with their lines.</exception>
    public static IReadOnlyList<ReadinessRule> ReadExpectations(string path) =>
        Read(path, "expect", "a file of expectations", "bad-expectations", "docs/expectations.md", isExpectation: true);

    private static List<ReadinessRule> Read(string path, string top, string what, string code, string page, bool isExpectation)
    {
        var yaml = YamlFile.Load(path, what, code, page);
        var folder = Path.GetDirectoryName(Path.GetFullPath(path))!;
        var rules = new List<ReadinessRule>();
        foreach (var (key, value) in yaml.Root.Children)
        {
            if ((key as YamlScalarNode)?.Value == top && value is YamlSequenceNode list)
            {
                foreach (var item in list)
                {
                    if (ReadRule(yaml, item, folder, isExpectation) is { } rule)
                        rules.Add(rule);
                }
            }
            else if (!isExpectation || key is not YamlScalarNode { Value: "title" })
                yaml.Wrong(key, $"'{key}' is not known here, or has the wrong form; known is '{top}' (a list)");
        }
        if (yaml.IsSound && rules.Count == 0)
            yaml.Wrong($"it lists no {(isExpectation ? "expectations" : "rules")}");
        yaml.Throw();
        return rules;
    }

    private static IReadOnlyList<string> Words => [.. s_words, .. s_subjects, .. s_demands];

    private static ReadinessRule? ReadRule(YamlFile yaml, YamlNode item, string folder, bool isExpectation)
    {
        if (yaml.Fields(item, Words) is not { } fields)
            return null;
        var missing = isExpectation ? []
            : ((string[])["check", "text", "mend"]).Where(k => fields.GetValueOrDefault(k, "").Length == 0).ToList();
        if (missing.Count > 0)
        {
            yaml.Wrong(item, $"a rule needs {string.Join(", ", missing)}");
            return null;
        }
        if (!Enum.TryParse<Severity>(fields.GetValueOrDefault("severity", isExpectation ? "stop" : "warn"), ignoreCase: true,
            out var severity)
            || !Enum.IsDefined(severity))
            yaml.Wrong(item, $"the severity '{fields["severity"]}' is not one of stop, warn, note");
        var subjects = s_subjects.Where(fields.ContainsKey).ToList();
        var demands = s_demands.Where(k => k != "value" && fields.ContainsKey(k)).ToList();
        if (subjects is not [var subject] || fields[subject].Length == 0)
        {
            // A word that is not known, and was told, may be what was meant.
            if (subjects.Count > 0 || fields.Keys.All(Words.Contains))
                yaml.Wrong(item, $"exactly one of {string.Join(", ", s_subjects)} is looked at");
            return null;
        }
        var allowed = Demands(subject);
        if (demands.FirstOrDefault(d => !allowed.Contains(d)) is { } other)
        {
            yaml.Wrong(item, allowed.Length == 0 ? $"of '{subject}' nothing else is asked than what stands there, so not '{other}'"
                : $"a {subject} rule cannot have '{other}': it takes {string.Join(" or ", allowed)}");
            return null;
        }
        if (demands.Count > 1 || (demands.Count == 0 && subject is "registry" or "service" or "feature"
            || demands.Count == 0 && !isExpectation && subject == "file"))
        {
            yaml.Wrong(item, $"exactly one thing is asked of it: {string.Join(", ", allowed)}");
            return null;
        }
        if (fields.TryGetValue("present", out var present) && present is not ("yes" or "no" or "true" or "false"))
            yaml.Wrong(item, "'present' is yes or no");
        var violation = subject switch
        {
            "registry" => Registry(yaml, item, fields),
            "file" => FileRule(yaml, item, fields),
            "service" => Service(yaml, item, fields),
            _ => InstallRules.Read(yaml, item, subject, fields, folder, isExpectation),
        };
        return violation is null ? null : new ReadinessRule(fields.GetValueOrDefault("check", subject), severity,
            fields.GetValueOrDefault("text", Expected(subject, fields)), fields.GetValueOrDefault("mend", ""), violation)
        {
            NamesFile = subject == "drivers",
        };
    }

    private static readonly string[] s_words = ["check", "severity", "text", "mend"];
    private static readonly string[] s_subjects = ["registry", "file", "service", "program", "package", "feature", "drivers", "language",
        "time-zone", "computer-name", "state", "ready"];
    private static readonly string[] s_demands = ["value", "present", "equals", "matches", "start", "version", "hash", "is"];

    private static string[] Demands(string subject) => subject switch
    {
        "registry" => ["present", "equals", "matches"],
        "file" => ["present", "version", "hash"],
        "service" => ["start"],
        "program" or "package" => ["present", "version"],
        "feature" => ["is"],
        "language" => ["present"],
        _ => [],
    };

    // What an expectation says by itself.
    private static string Expected(string subject, Dictionary<string, string> fields)
    {
        var what = subject switch
        {
            "registry" => fields.TryGetValue("value", out var value) ? $@"{fields["registry"]}\{value}" : fields["registry"],
            "file" => fields["file"],
            "drivers" => $"a driver for each device that {Path.GetFileName(fields["drivers"])} needs",
            "ready" => $"nothing found by the readiness checks at or above {fields["ready"]}",
            _ => $"{subject.Replace('-', ' ')} {fields[subject]}",
        };
        var demand = s_demands.FirstOrDefault(d => d != "value" && fields.ContainsKey(d));
        return demand switch
        {
            null => what,
            "present" => Wanted(fields) ? $"{what} is there" : $"{what} is not there",
            "equals" or "is" => $"{what} is {fields[demand]}",
            "start" => $"{what} starts {fields[demand]}",
            _ => $"{what}, {demand} {fields[demand]}",
        };
    }

    private static bool Wanted(Dictionary<string, string> fields) => fields["present"] is "yes" or "true";

    private static Func<InstallView, string?>? Registry(YamlFile yaml, YamlNode item,
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
        return install =>
        {
            var root = install.Hive(name);
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

    private static Func<InstallView, string?>? FileRule(YamlFile yaml, YamlNode item,
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
        if (fields.TryGetValue("version", out var range))
            return InstallRules.FileVersion(yaml, item, path, range);
        if (fields.TryGetValue("hash", out var hash))
            return InstallRules.FileHash(yaml, item, path, hash);
        var wanted = !fields.ContainsKey("present") || Wanted(fields);
        return install => install.Source.Exists(path) == wanted ? null : wanted ? $"{path} is missing" : $"{path} is there";
    }

    private static Func<InstallView, string?>? Service(YamlFile yaml, YamlNode item,
        Dictionary<string, string> fields)
    {
        var wanted = Array.IndexOf(s_starts, fields["start"]);
        if (wanted < 0)
        {
            yaml.Wrong(item, $"the start '{fields["start"]}' is not one of {string.Join(", ", s_starts)}");
            return null;
        }
        return install =>
        {
            var start = install.Hive("SYSTEM") is { } system
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

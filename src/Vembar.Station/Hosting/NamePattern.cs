using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Vembar.Operations.Stations.Contract;
using Vembar.Windows.Servicing.Answers;

namespace Vembar.Station.Hosting;

/// <summary>Makes names of computers: text, {site}, {model}, {serial:6} (its last characters), {number:3} (the first that is
/// free).</summary>
public static partial class NamePattern
{
    /// <summary>Windows takes no longer ones.</summary>
    public const int LongestName = 15;

    /// <summary>What is wrong with a pattern; null for nothing.</summary>
    public static string? ProblemOf(string pattern)
    {
        if (pattern.Length == 0)
            return null;
        var rest = Part().Replace(pattern, "");
        return rest.AsSpan().ContainsAny('{', '}')
            ? $"'{pattern}' has a part that is not known; known are {{site}}, {{model}}, {{serial:6}}, {{number:3}}"
            : pattern.Contains("{number", StringComparison.Ordinal) || pattern.Contains("{serial", StringComparison.Ordinal) ? null
            : $"'{pattern}' gives every machine the same name: it needs {{number:3}} or {{serial:6}}";
    }

    /// <summary>Makes a name for a machine.</summary>
    /// <param name="pattern">The pattern.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="model">Its model.</param>
    /// <param name="site">Its site.</param>
    /// <param name="isFree">Whether nobody has a name.</param>
    /// <returns>A name that is free; null where the pattern gives none that a computer can have.</returns>
    public static string? Make(string pattern, MachineIdentity machine, string model, string site, Func<string, bool> isFree)
    {
        const int Most = 100_000;
        for (var number = 1; number < Most; number++)
        {
            var name = Part().Replace(pattern, part =>
            {
                var length = part.Groups[2].Success ? int.Parse(part.Groups[2].ValueSpan, CultureInfo.InvariantCulture) : 0;
                return part.Groups[1].Value switch
                {
                    "number" => number.ToString(new string('0', Math.Max(1, length)), CultureInfo.InvariantCulture),
                    "serial" => End(Plain(machine.Serial), length),
                    "site" => Plain(site),
                    _ => Plain(model),
                };
            });
            if (name.Length is 0 or > LongestName || AnswerFile.ComputerNameProblem(name) is not null)
                return null;
            if (isFree(name))
                return name;
            if (!pattern.Contains("{number", StringComparison.Ordinal))
                return null;
        }
        return null;
    }

    private static string End(string text, int length) => length > 0 && text.Length > length ? text[^length..] : text;

    private static string Plain(string text)
    {
        var plain = new StringBuilder();
        foreach (var c in text.Where(char.IsAsciiLetterOrDigit))
            plain.Append(c);
        return plain.ToString();
    }

    [GeneratedRegex(@"\{(number|serial|site|model)(?::([0-9]{1,2}))?\}")]
    private static partial Regex Part();
}

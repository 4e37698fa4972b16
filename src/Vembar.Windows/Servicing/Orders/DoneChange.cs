using System.Text.RegularExpressions;

namespace Vembar.Windows.Servicing.Orders;

/// <summary>A change that an image's history tells of.</summary>
/// <param name="Kind">Its kind ("driver").</param>
/// <param name="What">What it named.</param>
internal sealed partial record DoneChange(string Kind, string What)
{
    [GeneratedRegex(@"^(?<kind>[a-z-]+) (?<what>.+?): (done|already) \(", RegexOptions.Singleline | RegexOptions.CultureInvariant,
        matchTimeoutMilliseconds: 1000)]
    private static partial Regex Form();

    /// <summary>Reads a line of a history; null when it tells of no change that was made.</summary>
    public static DoneChange? Parse(string line) =>
        Form().Match(line) is { Success: true } match ? new DoneChange(match.Groups["kind"].Value, match.Groups["what"].Value) : null;
}

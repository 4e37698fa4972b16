using System.Text;
using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Windows.Inspection;

/// <summary>Why generalizing an install failed, as its own logs say it: Windows/System32/Sysprep/Panther/setuperr.log and setupact.log,
/// lines of
/// "time, level   SYSPRP text".</summary>
public static partial class GeneralizeLog
{
    /// <summary>Where the logs are, below the Windows folder.</summary>
    public const string Folder = "System32/Sysprep/Panther";

    /// <summary>The log of all that was done.</summary>
    public const string ActionLog = "setupact.log";

    /// <summary>The log of mistakes alone.</summary>
    public const string ErrorLog = "setuperr.log";

    private const long Longest = 64 << 20;

    /// <summary>One reason.</summary>
    /// <param name="Check">A short word for it.</param>
    /// <param name="Text">What stood in the way, for people.</param>
    /// <param name="Subject">What of the install it was: a package, a file; empty where the log does not say.</param>
    /// <param name="Line">The log's line.</param>
    /// <param name="Remedy">What helps.</param>
    public sealed record Reason(string Check, string Text, string Subject, string Line, string Remedy);

    private sealed record Pattern(Regex Line, string Check, string Text, string Remedy);

    private static readonly Pattern[] s_patterns =
    [
        new(ForOneUser(), "generalize-app", "generalizing was refused for an app package that one user alone has",
            "Remove it for that user (Remove-AppxPackage), or provision it for all; then generalize again."),
        new(Updates(), "generalize-updates", "generalizing was refused while updates were at work",
            "Restart Windows until no update is pending, then generalize again."),
        new(Limit(), "generalize-limit", "it was generalized as often as Windows lets it",
            "Go back to a copy of the reference from before it was generalized, and generalize that."),
        new(Encrypted(), "generalize-bitlocker", "generalizing was refused because the disk is encrypted",
            "Decrypt the disk (manage-bde -off C:), wait until it is done, then generalize again."),
        new(Upgraded(), "generalize-upgraded", "generalizing was refused because this Windows was upgraded from an earlier one",
            "Install the reference anew: Windows generalizes no upgraded install."),
        new(Provider(), "generalize-service", "a part of Windows could not be generalized; its service is in the way",
            "Stop that service and set it not to start, then generalize again."),
    ];

    /// <summary>Looks for what stood in the way of the last run.</summary>
    /// <param name="log">The text of setuperr.log or setupact.log.</param>
    /// <returns>Each reason once, in the log's order; empty where the log names none that is known.</returns>
    public static IReadOnlyList<Reason> Reasons(string log)
    {
        var reasons = new List<Reason>();
        foreach (var line in LastRun(log).Select(l => l.Trim()))
        {
            if (!Error().IsMatch(line))
                continue;
            foreach (var pattern in s_patterns)
            {
                if (pattern.Line.Match(line) is not { Success: true } match)
                    continue;
                var subject = match.Groups["subject"].Value;
                if (!reasons.Exists(r => r.Check == pattern.Check && r.Subject == subject))
                    reasons.Add(new Reason(pattern.Check, pattern.Text, subject, line, pattern.Remedy));
                break;
            }
        }
        return reasons;
    }

    /// <summary>The last line of the last run that tells of a mistake; empty for none.</summary>
    /// <param name="log">The text of setuperr.log or setupact.log.</param>
    public static string LastError(string log) => LastRun(log).Select(l => l.Trim()).LastOrDefault(l => Error().IsMatch(l)) ?? "";

    /// <summary>The text of setupact.log of an install; null where it has none, or one that cannot be read.</summary>
    /// <param name="files">The install.</param>
    /// <param name="windowsFolder">The name of its Windows folder.</param>
    public static string? Read(IReadOnlyTree files, string windowsFolder)
    {
        try
        {
            var log = files.ReadFile(WindowsPath.Root.Child(windowsFolder).Append(WindowsPath.Parse(Folder)).Child(ActionLog), Longest);
            return log is null ? null : log.AsSpan().StartsWith((ReadOnlySpan<byte>)[0xFF, 0xFE]) ? Encoding.Unicode.GetString(log)
                : Encoding.UTF8.GetString(log);
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Damaged or ErrorKind.Environment)
        {
            return null;
        }
    }

    /// <summary>How often generalizing was begun.</summary>
    /// <param name="log">The text of setupact.log.</param>
    public static int Runs(string log) => Asked().Count(log);

    /// <summary>
    /// Whether the install was generalized for the same virtual hardware alone, so that it does not detect devices at its first start.
    /// </summary>
    /// <param name="log">The text of setupact.log, which names each option that generalizing was begun with.</param>
    /// <returns>Null where it does not say how it was generalized.</returns>
    public static bool? IsVirtualOnly(string log)
    {
        // Later runs come behind earlier ones; each names its options one after the other.
        const string Option = "supported command line option '";
        bool? found = null;
        var run = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var since = 0;
        foreach (var line in log.Split('\n'))
        {
            if (line.IndexOf(Option, StringComparison.Ordinal) is >= 0 and var at)
            {
                var word = line[(at + Option.Length)..].Split('\'')[0];
                if (since > 0 || word.Length == 0)
                    run.Clear();
                since = 0;
                run.Add(word);
                if (run.Contains("GENERALIZE"))
                    found = run.Contains("MODE");
            }
            else
                since++;
        }
        return found;
    }

    // Later runs come behind earlier ones.
    private static IEnumerable<string> LastRun(string log)
    {
        var lines = log.Split('\n');
        var from = Array.FindLastIndex(lines, l => Begin().IsMatch(l));
        return lines.Skip(Math.Max(0, from));
    }

    [GeneratedRegex(@"^[^,]*, Error\s")]
    private static partial Regex Error();

    [GeneratedRegex(@"Beginning of a new sysprep run", RegexOptions.IgnoreCase)]
    private static partial Regex Begin();

    [GeneratedRegex(@"command line option '/?generalize'", RegexOptions.IgnoreCase)]
    private static partial Regex Asked();

    [GeneratedRegex(@"Package (?<subject>\S+) was installed for a user, but not provisioned for all users", RegexOptions.IgnoreCase)]
    private static partial Regex ForOneUser();

    [GeneratedRegex("0x800F0975|reserved storage is in use|updates? that require a reboot|servicing operation is in progress",
        RegexOptions.IgnoreCase)]
    private static partial Regex Updates();

    [GeneratedRegex("0xC004D307|maximum number of (allowed )?re-?arms", RegexOptions.IgnoreCase)]
    private static partial Regex Limit();

    [GeneratedRegex("0x80310039|BitLocker", RegexOptions.IgnoreCase)]
    private static partial Regex Encrypted();

    [GeneratedRegex("will not run on an upgraded|upgraded (OS|operating system)", RegexOptions.IgnoreCase)]
    private static partial Regex Upgraded();

    [GeneratedRegex(@"(occurred while executing|failed to call|running) '(?<subject>[^',]+)", RegexOptions.IgnoreCase)]
    private static partial Regex Provider();
}

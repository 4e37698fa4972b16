using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;

/// <summary>
/// What earlier runs measured: a line for each row of a run, with the day, the commit, the row's name and its first figure (a ratio or
/// seconds),
/// separated by tabs.
/// </summary>
/// <param name="path">The file that it is kept in.</param>
internal sealed partial class BenchHistory(string path)
{
    private const double Worse = 1.15;
    private readonly List<(string Row, double Figure)> _run = [];

    [GeneratedRegex(@"\d[\d,]*(\.\d+)?")]
    private static partial Regex Figure();

    /// <summary>Notes a row of this run.</summary>
    /// <param name="row">Its name.</param>
    /// <param name="reached">What was reached, in words; its first figure counts, where lower is better.</param>
    public void Add(string row, string reached)
    {
        if (Figure().Match(reached) is { Success: true, Value: var figure })
            _run.Add((row, double.Parse(figure, NumberStyles.AllowThousands | NumberStyles.AllowDecimalPoint,
                CultureInfo.InvariantCulture)));
    }

    /// <summary>Adds this run to the file, where it can be compared with others, and tells which rows are worse by 15 % than the median of
    /// those before.</summary>
    /// <param name="isKept">Whether it is added: a quick run, or one on another tree, is not.</param>
    public IReadOnlyList<string> Close(bool isKept)
    {
        var earlier = File.Exists(path) ? File.ReadLines(path).Select(l => l.Split('\t')).Where(p => p.Length == 4).ToList() : [];
        var worse = new List<string>();
        foreach (var (row, figure) in _run)
        {
            var before = earlier.Where(p => p[2] == row).Select(p => double.Parse(p[3], CultureInfo.InvariantCulture)).Order().ToList();
            if (before.Count > 0 && before[before.Count / 2] is var median && figure > median * Worse)
                worse.Add(string.Create(CultureInfo.InvariantCulture, $"{row}: {figure:0.00}, before {median:0.00} (median of "
                    + $"{before.Count})"));
        }
        var (day, commit) = (DateTime.UtcNow.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture), Commit());
        if (isKept)
            File.AppendAllLines(path,
            _run.Select(r => string.Create(CultureInfo.InvariantCulture, $"{day}\t{commit}\t{r.Row}\t{r.Figure:0.###}")));
        return worse;
    }

    private static string Commit()
    {
        using var git = Process.Start(new ProcessStartInfo("git", ["rev-parse", "--short", "HEAD"]) { RedirectStandardOutput = true })!;
        return git.StandardOutput.ReadToEnd().Trim();
    }
}

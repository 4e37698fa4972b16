using Vembar.Operations.Stations.Contract;
using Vembar.Station.Problems;

namespace Vembar.Station.Machines;

/// <summary>Looks whether what people and scripts want makes sense, as far as that can be told without looking anything up.</summary>
public static class OrderChecks
{
    // What is filled in lies on the machine's disk for a while, where there is room for so much.
    private const int MostFills = 100, LongestFills = 16 << 10, MostRows = 10_000, LongestText = 300, MostAccepted = 50;

    /// <summary>Looks at an approval.</summary>
    /// <returns>The same; what it leaves out is nothing.</returns>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static Approval Look(Approval? approval)
    {
        var whole = (approval ?? new Approval()) with { Accept = approval?.Accept ?? [] };
        if (whole.Accept.Count > MostAccepted || whole.Accept.Any(a => a is null))
            throw StationException.Bad("bad-request", "what is to be accepted is a list of words");
        Look(whole.Fill);
        return whole;
    }

    /// <summary>Looks at a list of machines.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static void Look(IReadOnlyList<ImportRow> rows)
    {
        if (rows is null || rows.Count > MostRows)
            throw StationException.Bad("bad-list", $"a list has up to {MostRows} machines");
        foreach (var row in rows)
        {
            if (row is null || new[] { row.Identifier, row.Name, row.Site, row.Image }.Any(t => t is null || t.Length > LongestText
                || t.Any(char.IsControl)))
                throw StationException.Bad("bad-list",
                    $"each machine has an identifier, name, site and image of up to {LongestText} characters");
            Look(row.Fill);
            UserFiles(row.UserFiles ?? throw StationException.Bad("bad-list", "what is done about user files is keep, none, or empty"));
        }
    }

    /// <summary>Looks at what is to be captured.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static void Look(CaptureOrder order)
    {
        if (string.IsNullOrWhiteSpace(order?.Name))
            throw StationException.Bad("no-name", "the new image needs a name", "Give it one with --name.");
        if (new[] { order.Name, order.Archive, order.Edition, order.Version }.Any(t => t?.Length > LongestText
            || t?.Any(char.IsControl) == true))
            throw StationException.Bad("bad-request", $"name, edition and version are texts of up to {LongestText} characters in one line");
    }

    /// <summary>Looks at what is to be done about user files.</summary>
    /// <exception cref="StationException">It makes no sense.</exception>
    public static void UserFiles(string text)
    {
        if (text is not ("" or "keep" or "none"))
            throw StationException.Bad("bad-user-files", $"'{text}' is not known of user files: keep or none is wanted");
    }

    private static void Look(IReadOnlyDictionary<string, string>? fill)
    {
        if (fill is not null && (fill.Count > MostFills || fill.Values.Any(v => v is null)
            || fill.Sum(f => (long)f.Key.Length + f.Value.Length) > LongestFills))
            throw StationException.Bad("bad-fill", $"up to {MostFills} texts of {LongestFills >> 10} KiB together can be filled in");
    }
}

namespace Vembar.Cli.Commands;

/// <summary>Names with their values, below each other.</summary>
internal static class Fields
{
    private const int Gap = 2, Narrowest = 20;

    public static void Print(Session session, params (string Name, string Value)[] fields) => Print(session, 0, fields);

    public static void Print(Session session, int indent, params (string Name, string Value)[] fields)
    {
        var shown = fields.Where(f => f.Value.Length > 0).ToList();
        var names = shown.Select(f => f.Name.Length).DefaultIfEmpty(0).Max();
        var begin = indent + names + Gap;
        foreach (var (name, value) in shown)
        {
            var safe = Text.Safe(value);
            var lines = Console.IsOutputRedirected ? [safe] : LineBreaks.Prose(safe, Math.Max(Narrowest, Terminal.Width - begin)).ToList();
            Console.Out.WriteLine($"{new string(' ', indent)}{(session.IsPlain ? name : Styles.Heading(name))}"
                + $"{new string(' ', names - name.Length + Gap)}{lines[0]}");
            foreach (var line in lines.Skip(1))
                Console.Out.WriteLine(new string(' ', begin) + line);
        }
    }

    public static string State(string state) => state switch
    {
        "generalized" => "generalized; its first start shows the welcome",
        "generalized-audit" => "generalized; its first start is in audit mode",
        "specialized" => "started again after it was generalized: made for one machine",
        "in-use" => "in ordinary use: not generalized",
        "unfinished" => "generalizing was cut off: must not be deployed",
        "unknown" => "unknown",
        _ => state,
    };
}

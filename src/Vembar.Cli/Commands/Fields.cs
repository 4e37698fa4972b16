namespace Vembar.Cli.Commands;

/// <summary>Names with their values, below each other.</summary>
internal static class Fields
{
    public static void Print(Session session, params (string Name, string Value)[] fields) => Print(session, 0, fields);

    public static void Print(Session session, int indent, params (string Name, string Value)[] fields)
    {
        var grid = new Spectre.Console.Grid();
        grid.AddColumn(new Spectre.Console.GridColumn { NoWrap = true, Padding = new Spectre.Console.Padding(indent, 0, 2, 0) });
        grid.AddColumn(new Spectre.Console.GridColumn { Padding = new Spectre.Console.Padding(0) });
        foreach (var (name, value) in fields.Where(f => f.Value.Length > 0))
            grid.AddRow(new Spectre.Console.Text(name, new Spectre.Console.Style(decoration: Spectre.Console.Decoration.Bold)),
                new Spectre.Console.Text(Text.Safe(value)));
        session.Print(grid);
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

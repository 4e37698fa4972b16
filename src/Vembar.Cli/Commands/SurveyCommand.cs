using System.CommandLine;
using Vembar.Core.Operations;

namespace Vembar.Cli.Commands;

internal static class SurveyCommand
{
    public static VembarCommand Create()
    {
        var source = new Argument<string>("SOURCE") { Description = "The folder that is the root of a Windows volume" };
        return new VembarCommand("survey", "Say which Windows install a folder holds and what a capture would take",
            "vembar survey vembar-demo/references/lending-desk", "vembar survey /mnt/reference --json")
            .With(source).Does((parse, session) =>
            {
                var result = SurveyOperation.Run(parse.GetRequiredValue(source), session.Progress, session.Cancellation);
                var json = new SurveyJson(result.Source, null, [.. result.Volumes.Select(v => new VolumeJson(v.Number, 0, v.Bytes, v.FileSystem, "", CliJson.From(v.Windows), v.Files, v.LeftOut))]);
                session.Result(json, CliJson.Default.SurveyJson, () => Show(result, session));
                return ExitCode.Done;
            });
    }

    private static void Show(SurveyResult result, Session session)
    {
        foreach (var volume in result.Volumes)
        {
            if (volume.Windows is { } windows)
            {
                Fields.Print(session,
                    ("Windows", $"{windows.Product}, build {windows.Build}, {windows.Architecture}"),
                    ("edition", windows.Edition),
                    ("languages", string.Join(", ", windows.Languages)),
                    ("computer name", windows.ComputerName),
                    ("state", Fields.State(windows.State)),
                    ("programs", Text.Number(volume.Programs)));
            }
            else
                Session.Line($"no Windows found in '{result.Source}'");
            Session.Line();
            Session.Line($"A capture would take {Text.Count(volume.Files, "file")}, {Text.Size(volume.Bytes)}, and leave out {Text.Count(volume.LeftOut.Count, "entry", "entries")} that Windows makes anew.");
        }
    }
}

/// <summary>Names with their values, below each other.</summary>
internal static class Fields
{
    public static void Print(Session session, params (string Name, string Value)[] fields)
    {
        var grid = new Spectre.Console.Grid();
        grid.AddColumn(new Spectre.Console.GridColumn { NoWrap = true, Padding = new Spectre.Console.Padding(0, 0, 2, 0) });
        grid.AddColumn(new Spectre.Console.GridColumn { Padding = new Spectre.Console.Padding(0) });
        foreach (var (name, value) in fields.Where(f => f.Value.Length > 0))
            grid.AddRow(new Spectre.Console.Text(name, new Spectre.Console.Style(decoration: Spectre.Console.Decoration.Bold)), new Spectre.Console.Text(Text.Safe(value)));
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

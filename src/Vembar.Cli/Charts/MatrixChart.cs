using System.Globalization;
using System.Text.Json.Nodes;
using OxyPlot;
using OxyPlot.Annotations;
using OxyPlot.Axes;
using OxyPlot.Series;

namespace Vembar.Cli.Charts;

/// <summary>How much each of a list has of each other, as a part of what it has.</summary>
/// <param name="name">What it is called.</param>
/// <param name="title">What is seen in it.</param>
/// <param name="labels">The rows, in full.</param>
/// <param name="marks">The columns, short.</param>
/// <param name="part">How much of the row is also in the column, from 0 to 1.</param>
/// <param name="tip">The same in words.</param>
internal sealed class MatrixChart(string name, string title, IReadOnlyList<string> labels, IReadOnlyList<string> marks,
    Func<int, int, double> part, Func<int, int, string> tip) : Chart(name, title)
{
    private const int Row = 34, Around = 60;

    // Where they have nearly all in common, the little by which they differ is what is to be seen.
    private double Least
    {
        get
        {
            const double Below = 0.15;
            var parts = Enumerable.Range(0, labels.Count).SelectMany(row =>
                Enumerable.Range(0, marks.Count).Select(column => part(row, column)));
            return Math.Max(0, parts.DefaultIfEmpty(0).Min() - Below);
        }
    }

    protected override int Height => labels.Count * Row + Around;

    protected override JsonObject Data()
    {
        var cells = new JsonArray();
        for (var row = 0; row < labels.Count; row++)
        {
            for (var column = 0; column < marks.Count; column++)
                cells.Add((JsonNode)new JsonArray(column, row, Math.Round(part(row, column) * 100, 1), tip(row, column)));
        }
        return new JsonObject
        {
            ["kind"] = "matrix",
            ["labels"] = Array(labels),
            ["marks"] = Array(marks),
            ["cells"] = cells,
            ["least"] = Math.Round(Least * 100, 1)
        };
    }

    protected override string Still()
    {
        var plot = StillPlot.New(labels.Select(Short));
        var least = Least;
        var rows = StillPlot.Categories(AxisPosition.Left, labels.Select(Short));
        rows.StartPosition = 1;
        rows.EndPosition = 0;
        plot.Axes.Add(rows);
        plot.Axes.Add(StillPlot.Categories(AxisPosition.Top, marks));
        for (var row = 0; row < labels.Count; row++)
        {
            for (var column = 0; column < marks.Count; column++)
            {
                const double Half = 0.48;
                plot.Annotations.Add(new RectangleAnnotation
                {
                    MinimumX = column - Half,
                    MaximumX = column + Half,
                    MinimumY = row - Half,
                    MaximumY = row + Half,
                    Fill = StillPlot.Shaded((part(row, column) - least) / (1 - least)),
                    Stroke = OxyColors.Transparent,
                    TextColor = part(row, column) > (least + 1) / 2 ? StillPlot.Paper : OxyColors.Automatic,
                    Text = $"{(part(row, column) * 100).ToString("0", CultureInfo.InvariantCulture)} %",
                });
            }
        }
        // What draws nothing, so that the axes are used.
        plot.Series.Add(new LineSeries());
        return StillPlot.Svg(plot, Width, Height, Title);
    }
}

using System.Text.Json.Nodes;
using OxyPlot;
using OxyPlot.Annotations;
using OxyPlot.Axes;
using OxyPlot.Series;

namespace Vembar.Cli.Charts;

/// <summary>Bars from the left to the right, a row each; several series stand one behind the other.</summary>
internal sealed class BarChart(string name, string title, ChartUnit unit, IReadOnlyList<string> labels, IReadOnlyList<ChartSeries> series)
    : Chart(name, title)
{
    private const int Row = 26, Around = 70;

    protected override int Height => HeightOf(labels.Count);

    private static int HeightOf(int rows) => rows * Row + Around;

    protected override JsonObject Data() => new()
    {
        ["kind"] = "bars",
        ["unit"] = unit == ChartUnit.Bytes ? "bytes" : "count",
        ["labels"] = Array(labels),
        ["series"] = new JsonArray([.. series.Select(s => (JsonNode)new JsonObject
        {
            ["name"] = s.Name,
            ["colour"] = s.Colour,
            ["values"] = Array(s.Values),
        })]),
    };

    protected override string Still() => SvgOf(Title, unit, labels, series);

    /// <summary>Such bars as SVG.</summary>
    public static string SvgOf(string title, ChartUnit unit, IReadOnlyList<string> labels, IReadOnlyList<ChartSeries> series)
    {
        var plot = StillPlot.New(labels.Select(Short));
        var names = StillPlot.Categories(AxisPosition.Left, labels.Select(Short));
        names.StartPosition = 1;
        names.EndPosition = 0;
        plot.Axes.Add(names);
        var sums = Enumerable.Range(0, labels.Count).Select(i => series.Sum(s => s.Values[i])).ToList();
        plot.Axes.Add(StillPlot.Values(AxisPosition.Bottom, sums.DefaultIfEmpty(0).Max(), unit));
        for (var at = 0; at < series.Count; at++)
        {
            var bars = new BarSeries
            {
                IsStacked = true,
                StrokeThickness = 0,
                Title = series[at].Name,
                FillColor = StillPlot.Colour(series[at].Colour > 0 ? series[at].Colour : at + 1),
            };
            bars.Items.AddRange(series[at].Values.Select(v => new BarItem(v)));
            plot.Series.Add(bars);
        }
        foreach (var (at, sum) in sums.Index())
        {
            plot.Annotations.Add(new TextAnnotation
            {
                Text = Show(sum, unit),
                TextPosition = new DataPoint(sum, at),
                TextHorizontalAlignment = HorizontalAlignment.Left,
                TextVerticalAlignment = VerticalAlignment.Middle,
                StrokeThickness = 0,
                Offset = new ScreenVector(6, 0),
            });
        }
        if (series.Count > 1)
            StillPlot.AddLegend(plot);
        return StillPlot.Svg(plot, Width, HeightOf(labels.Count), title);
    }
}

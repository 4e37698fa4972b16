using System.Globalization;
using System.Text.RegularExpressions;
using OxyPlot;
using OxyPlot.Axes;
using OxyPlot.Legends;

namespace Vembar.Cli.Charts;

/// <summary>Draws charts as SVG in the colours of the page that they stand in.</summary>
internal static partial class StillPlot
{
    // The library knows no colours but fixed ones: these stand for the page's, and are taken for nothing else.
    private const double LetterWidth = 7.6, Gap = 16;
    private const byte Mark = 1, Ink = 1, Series = 2, Shade = 3;

    /// <summary>The colour of the page.</summary>
    public static OxyColor Paper => OxyColor.FromRgb(Mark, Ink, 2);

    /// <summary>An empty plot.</summary>
    /// <param name="labels">What stands on its left.</param>
    public static PlotModel New(IEnumerable<string> labels) => new()
    {
        PlotAreaBorderThickness = new OxyThickness(0),
        DefaultFont = "system-ui, sans-serif",
        DefaultFontSize = 13,
        TextColor = OxyColor.FromRgb(Mark, Ink, 0),
        PlotMargins = new OxyThickness(labels.Select(l => l.Length).DefaultIfEmpty(0).Max() * LetterWidth + Gap, double.NaN, double.NaN,
            double.NaN),
        Padding = new OxyThickness(0, 4, 90, 4),
    };

    /// <summary>One of the page's colours, from 1 on.</summary>
    public static OxyColor Colour(int number) => OxyColor.FromRgb(Mark, Series, (byte)number);

    /// <summary>A shade of the first colour.</summary>
    /// <param name="part">How much of it, from 0 to 1.</param>
    public static OxyColor Shaded(double part) => OxyColor.FromRgb(Mark, Shade, (byte)Math.Round(Math.Clamp(part, 0, 1) * 100));

    /// <summary>An axis of names.</summary>
    public static CategoryAxis Categories(AxisPosition position, IEnumerable<string> names)
    {
        var axis = new CategoryAxis { Position = position, GapWidth = 0.4, TickStyle = TickStyle.None, AxislineStyle = LineStyle.None };
        axis.Labels.AddRange(names);
        return axis;
    }

    /// <summary>An axis of values from 0 on.</summary>
    public static LinearAxis Values(AxisPosition position, long most, ChartUnit unit)
    {
        var step = Step(most, unit);
        return new LinearAxis
        {
            Position = position,
            Minimum = 0,
            Maximum = Math.Max(most * 1.02, step),
            MajorStep = step,
            TickStyle = TickStyle.None,
            MajorGridlineStyle = LineStyle.Solid,
            MajorGridlineColor = OxyColor.FromRgb(Mark, Ink, 1),
            LabelFormatter = value => value == 0 ? "0" : unit == ChartUnit.Bytes ? Text.Size((long)value) : Text.Number((long)value),
        };
    }

    // A round number of the unit that the values are shown in.
    private static double Step(long most, ChartUnit unit)
    {
        const int Lines = 6, Kibi = 1024;
        double scale = 1;
        while (unit == ChartUnit.Bytes && most / scale >= Kibi)
            scale *= Kibi;
        var rough = Math.Max(1, most) / scale / Lines;
        var power = Math.Pow(10, Math.Floor(Math.Log10(rough)));
        var step = new[] { 1.0, 2, 5, 10 }.Select(n => n * power).First(n => n >= rough) * scale;
        return unit == ChartUnit.Count || scale == 1 ? Math.Max(1, Math.Round(step)) : step;
    }

    /// <summary>Names the series above the plot.</summary>
    public static void AddLegend(PlotModel plot) => plot.Legends.Add(new Legend
    {
        LegendPosition = LegendPosition.TopLeft,
        LegendPlacement = LegendPlacement.Outside,
        LegendOrientation = LegendOrientation.Horizontal,
    });

    /// <summary>The plot as an SVG element that is as wide as its place.</summary>
    /// <param name="plot">The plot.</param>
    /// <param name="width">In units of its own.</param>
    /// <param name="height">In the same.</param>
    /// <param name="title">What is seen in it.</param>
    public static string Svg(PlotModel plot, int width, int height, string title)
    {
        using var stream = new MemoryStream();
        new SvgExporter { Width = width, Height = height }.Export(plot, stream);
        stream.Position = 0;
        using var reader = new StreamReader(stream);
        var svg = reader.ReadToEnd();
        svg = svg[svg.IndexOf("<svg", StringComparison.Ordinal)..];
        svg = svg[svg.IndexOf('>')..];
        svg = Colours().Replace(svg, OfPage);
        // The library measures texts of a font that is not there, and cuts off what it takes for too much.
        svg = Cuts().Replace(svg, "");
        return $"<svg viewBox=\"0 0 {width} {height}\" role=\"img\" aria-label=\"{Page.E(title)}\" "
            + $"xmlns=\"http://www.w3.org/2000/svg\"{svg}";
    }

    private static string OfPage(Match colour)
    {
        var number = int.Parse(colour.Groups[2].Value, CultureInfo.InvariantCulture);
        return (byte.Parse(colour.Groups[1].Value, CultureInfo.InvariantCulture), number) switch
        {
            (Ink, 0) => "currentColor",
            (Ink, 1) => "var(--line)",
            (Ink, _) => "var(--paper)",
            (Series, _) => $"var(--c{number})",
            _ => $"color-mix(in srgb, var(--c1) {number}%, transparent)",
        };
    }

    [GeneratedRegex(@"<defs>.*?</defs>| clip-path=""[^""]*""", RegexOptions.Singleline)]
    private static partial Regex Cuts();

    [GeneratedRegex(@"rgb\(1,([123]),(\d+)\)")]
    private static partial Regex Colours();
}

using System.Text.Json.Nodes;

namespace Vembar.Cli.Charts;

/// <summary>
/// A chart of a page, drawn twice: once as it is written, for paper and for where scripts are off, and once by the page's script, where
/// one can point at it. docs/reports.md.
/// </summary>
/// <param name="name">What the page's script and links call it.</param>
/// <param name="title">What is seen in it, in a sentence.</param>
internal abstract class Chart(string name, string title)
{
    /// <summary>How wide charts are drawn, in units of which the page makes them as wide as it is.</summary>
    protected const int Width = 1100;

    /// <summary>What is seen in it, in a sentence.</summary>
    protected string Title => title;

    /// <summary>How high it is drawn by the script, in pixels.</summary>
    protected abstract int Height { get; }

    /// <summary>What the script draws it from.</summary>
    protected abstract JsonObject Data();

    /// <summary>The chart without a script, as HTML.</summary>
    protected abstract string Still();

    /// <summary>Its place in a page.</summary>
    public string Html() => $"<figure class=\"chart\" id=\"{name}\"><div class=\"live\" role=\"img\" aria-label=\"{Page.E(title)}\" "
        + $"style=\"height:{Height}px\"></div><div class=\"still\">{Still()}</div><script type=\"application/json\">"
        // Nothing in it ends the script: signs of markup are written as escapes.
        + $"{Data().ToJsonString()}</script></figure>\n";

    protected static JsonArray Array(IEnumerable<string> texts) => new([.. texts.Select(t => (JsonNode)JsonValue.Create(t))]);

    protected static JsonArray Array(IEnumerable<long> values) => new([.. values.Select(v => (JsonNode)JsonValue.Create(v))]);

    protected static string Show(long value, ChartUnit unit) => unit == ChartUnit.Bytes ? Text.Size(value) : Text.Number(value);

    /// <summary>A label that leaves room for what it labels.</summary>
    protected static string Short(string label)
    {
        const int Most = 44;
        return label.Length <= Most ? label : $"{label[..(Most / 2)]}…{label[^(Most / 2 - 1)..]}";
    }
}

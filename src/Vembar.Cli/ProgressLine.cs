using System.Globalization;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>One line that says how far something is, within a width: percent and time left are kept longest, the bar goes first.</summary>
internal static class ProgressLine
{
    private const int LongBar = 20, ShortBar = 10, LeastOfPath = 12;

    // What is counted where no total is known, by the phase.
    private static string NounOf(OperationProgress value) => value.Phase switch
    {
        "looking" => value.Done == 1 ? " file found" : " files found",
        _ => "",
    };

    // What is counted beside a total.
    private static string CountedOf(string phase) => phase switch
    {
        "walking images" or "saving images" => "images ",
        "making changes" => "changes ",
        "looking at drivers" => "drivers ",
        _ => "",
    };

    /// <summary>The line.</summary>
    /// <param name="value">How far it is.</param>
    /// <param name="elapsed">Since the phase began.</param>
    /// <param name="width">How many characters there are.</param>
    public static string Of(OperationProgress value, TimeSpan elapsed, int width)
    {
        string Amount(long amount) => value.InBytes ? Text.Size(amount) : Text.Number(amount);
        if (value.Total <= 0)
            return Fit([value.Phase, value.Done > 0 ? $"{Amount(value.Done)}{NounOf(value)}" : ""], value.Current, width);
        var share = Math.Clamp((double)value.Done / value.Total, 0, 1);
        var percent = $"{(share * 100).ToString("0", CultureInfo.InvariantCulture)} %";
        var seconds = elapsed.TotalSeconds;
        var speed = value.Done > 0 && seconds > 0.5 ? value.Done / seconds : 0;
        var amount = $"{CountedOf(value.Phase)}{Amount(value.Done)} of {Amount(value.Total)}";
        var pace = speed > 0 && value.InBytes ? $"{Text.Size((long)speed)}/s" : "";
        var left = speed > 0 && value.Done < value.Total ? $"{Text.Duration((value.Total - value.Done) / speed)} left" : "";
        string Bar(int length) => $"[{new string('=', (int)(share * length))}{new string(' ', length - (int)(share * length))}]";
        string[][] forms =
        [
            [value.Phase, $"{Bar(LongBar)} {percent}", amount, pace, left],
            [value.Phase, $"{Bar(ShortBar)} {percent}", amount, left],
            [value.Phase, percent, amount, left],
            [value.Phase, percent, left],
        ];
        var needed = value.Current.Length == 0 ? 0 : Math.Min(value.Current.Length, LeastOfPath) + 2;
        var form = forms.FirstOrDefault(f => Join(f).Length + needed <= width) ?? forms[^1];
        return Fit(form, value.Current, width);
    }

    /// <summary>The line that a step leaves when it is done. It begins with "done".</summary>
    /// <param name="value">How far it came.</param>
    /// <param name="elapsed">How long it took.</param>
    /// <param name="width">How many characters there are.</param>
    public static string OfStep(OperationProgress value, TimeSpan elapsed, int width)
    {
        var amount = value.Done == 0 ? "" : value.InBytes ? Text.Size(value.Done) : $"{Text.Number(value.Done)}{NounOf(value)}";
        var line = Join(["done", value.Phase, amount, Text.Duration(elapsed.TotalSeconds)]);
        return line.Length > width ? line[..width] : line;
    }

    private static string Join(IEnumerable<string> parts) => string.Join("  ", parts.Where(p => p.Length > 0));

    // With the end of what is at hand, as far as there is room.
    private static string Fit(IEnumerable<string> parts, string current, int width)
    {
        var line = Join(parts);
        var safe = Text.Safe(current);
        var room = width - line.Length - 2;
        if (safe.Length > 0 && room >= Math.Min(safe.Length, LeastOfPath))
            line += "  " + (safe.Length <= room ? safe : $"…{safe[^(room - 1)..]}");
        return line.Length > width ? line[..width] : line;
    }
}

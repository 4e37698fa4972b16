using System.Globalization;
using System.Text;
using Vembar.Operations.Show;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Operations.Expect;

/// <summary>Expectations that an image meets, to begin with.</summary>
public static class ExpectationDraft
{
    /// <summary>The text of the file.</summary>
    /// <param name="shown">The image with what it holds.</param>
    /// <exception cref="Common.VembarException">It holds no Windows.</exception>
    public static string Of(ShowResult shown)
    {
        var image = shown.Image;
        if (shown.Programs is null)
            throw Common.VembarException.Input("no-windows", $"image {image.Number} {image.Title} of '{shown.Archive}' holds no Windows",
                "Name another image.");
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture,
            $"# What {OneLine(image.Title)} is. Take out what is of no matter; docs/expectations.md says what can be asked.\n");
        text.Append(CultureInfo.InvariantCulture, $"title: {Quoted(image.Name)}\nexpect:\n");
        void Add(params (string Key, string Value)[] fields)
        {
            for (var i = 0; i < fields.Length; i++)
                text.Append(CultureInfo.InvariantCulture, $"{(i == 0 ? "  - " : "    ")}{fields[i].Key}: {Quoted(fields[i].Value)}\n");
        }
        if (image.State.Length > 0)
            Add(("state", image.State));
        if (image.Build.Length > 0)
            Add(("registry", @"SOFTWARE\Microsoft\Windows NT\CurrentVersion"), ("value", "CurrentBuildNumber"),
                ("equals", image.Build.Split('.')[0]));
        foreach (var language in shown.Locale?.Languages ?? [])
            Add(("language", language));
        if (shown.Locale is { TimeZone.Length: > 0 } locale)
            Add(("time-zone", locale.TimeZone));
        foreach (var program in shown.Programs)
            Add(Numbers(program.Version) is { Length: > 0 } numbers
                ? [("program", program.Name), ("version", $">= {numbers}")] : [("program", program.Name)]);
        foreach (var package in (shown.Packages ?? []).Where(p => p.ReplacedBy is null))
        {
            Add(("package", package.Manifest.Name), ("version", $">= {PackageManifest.Show(package.Manifest.Version)}"));
            foreach (var (feature, isOn) in package.Features)
                Add(("feature", feature.Name), ("is", isOn ? "on" : "off"));
        }
        Add(("ready", "stop"));
        return text.ToString();
    }

    // What of a version can be compared.
    private static string Numbers(string version)
    {
        const int Most = 8, Longest = 17;
        var parts = version.Split('.', '-', ' ').TakeWhile(p => p.Length is > 0 and <= Longest && p.All(char.IsAsciiDigit));
        return string.Join('.', parts.Take(Most));
    }

    private static string OneLine(string text) => new([.. text.Select(c => char.IsControl(c) ? ' ' : c)]);

    private static string Quoted(string text) => text.Any(char.IsControl)
        ? $"\"{string.Concat(text.Select(c => char.IsControl(c) ? $"\\u{(int)c:x4}" : c is '"' or '\\' ? $"\\{c}" : $"{c}"))}\""
        : $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";
}

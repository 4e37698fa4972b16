using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.List;

/// <summary>A condition on images: what an image says of itself, or a label, has a value.</summary>
/// <param name="key">A column's key, or a label.</param>
/// <param name="value">The value, compared without case; '*' and '?' match.</param>
internal sealed class ListFilter(string key, string value)
{
    private readonly Regex _pattern = new($"^{Regex.Escape(value).Replace(@"\*", ".*", StringComparison.Ordinal)
        .Replace(@"\?", ".", StringComparison.Ordinal)}$",
            RegexOptions.IgnoreCase | RegexOptions.CultureInvariant | RegexOptions.Singleline);

    /// <summary>Reads KEY=VALUE.</summary>
    /// <exception cref="VembarException">It is none.</exception>
    public static ListFilter Parse(string text) => text.IndexOf('=') is > 0 and var at ? new ListFilter(text[..at], text[(at + 1)..])
        : throw new VembarException(ErrorKind.Usage, "bad-where", $"'{text}' is not KEY=VALUE",
            "Write for instance --where site=valley, --where state=held or --where channel=pilot.");

    /// <summary>Whether it asks for what is not listed otherwise.</summary>
    public bool WantsAll => Is("state") && s_hidden.Any(_pattern.IsMatch);

    private static readonly string[] s_hidden = ["held", "retired"];

    private bool Is(string word) => key.Equals(word, StringComparison.OrdinalIgnoreCase);

    /// <summary>Whether an image meets it.</summary>
    public bool Fits(ImageRecord image, DateOnly today)
    {
        if (image.Labels.FirstOrDefault(l => l.Key.Equals(key, StringComparison.OrdinalIgnoreCase)) is { Key: not null } label)
            return _pattern.IsMatch(label.Value);
        if (Is("state"))
            return States(image, today).Any(_pattern.IsMatch);
        if (Is("channel") || Is("channels"))
            return (image.Channels ?? []).Any(_pattern.IsMatch);
        if (Is("language") || Is("languages"))
            return image.Languages.Any(_pattern.IsMatch);
        return ListColumn.All.FirstOrDefault(c => Is(c.Key)) is { } column && _pattern.IsMatch(column.Show(image));
    }

    // The install's own state, and the image's.
    private static List<string> States(ImageRecord image, DateOnly today)
    {
        var states = new List<string> { image.State };
        if (image.Locked)
            states.Add("locked");
        if (image.Held)
            states.Add("held");
        states.Add(image.IsRetired(today) ? "retired" : image.Retires is not null ? "retiring" : "kept");
        if (image.IsOffered(today))
            states.Add("offered");
        return states;
    }
}

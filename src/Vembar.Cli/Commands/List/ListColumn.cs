using System.Globalization;
using Vembar.Images.Records;

namespace Vembar.Cli.Commands.List;

/// <summary>A column of the list of images: its key on the command line, its heading as a table has it, what it shows, and what it
/// sorts by.</summary>
internal sealed record ListColumn(string Key, string Heading, Func<ImageRecord, string> Show, Func<ImageRecord, IComparable> Sort)
{
    private static ListColumn Of(string key, string heading, Func<ImageRecord, string> text) => new(key, heading, text, text);

    private static ListColumn Of(string key, string heading, Func<ImageRecord, long> value, Func<long, string> text) =>
        new(key, heading, image => text(value(image)), image => value(image));

    /// <summary>All columns.</summary>
    public static IReadOnlyList<ListColumn> All { get; } =
    [
        Of("number", ">No.", i => i.Number, n => n.ToString(CultureInfo.InvariantCulture)),
        Of("name", "Name", i => i.Name),
        Of("version", "Version", i => i.Version),
        Of("channels", "Channels", i => string.Join(", ", i.Channels ?? [])),
        Of("marks", "Marks", Marks),
        Of("edition", "~Edition", i => i.Edition),
        Of("build", "~>Build", i => i.Build),
        Of("files", "~>Files", i => i.Files, Text.Number),
        Of("size", ">Size", i => i.Bytes, Text.Size),
        Of("adds", ">Adds", i => i.BytesAdded, Text.Size),
        new("date", "Date", i => Text.Time(i.Created), i => i.Created),
        Of("product", "Product", i => i.Product),
        Of("architecture", "Architecture", i => i.Architecture),
        Of("languages", "Languages", i => string.Join(", ", i.Languages)),
        Of("state", "State", i => i.State),
        Of("labels", "Labels", i => string.Join(", ", i.Labels.Select(l => $"{l.Key}={l.Value}"))),
        Of("note", "Note", i => i.Note),
        Of("root", "Root", i => i.Root.ToString()),
    ];

    private static readonly string[] s_standard =
        ["number", "name", "version", "channels", "marks", "edition", "build", "files", "size", "adds", "date"];

    /// <summary>The columns that are shown where nobody says which; without those that would be empty for all.</summary>
    public static IReadOnlyList<ListColumn> Standard(IReadOnlyList<ImageRecord> images) => [.. All.Where(c => s_standard.Contains(c.Key)
        && (c.Key is not ("channels" or "marks") || images.Any(i => c.Show(i).Length > 0)))];

    /// <summary>What keeps an image, or keeps it back.</summary>
    public static string Marks(ImageRecord image)
    {
        var today = DateOnly.FromDateTime(DateTime.Now);
        var day = image.Retires?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        return string.Join(", ", ((string[])
        [
            image.Locked ? "locked" : "", image.Held ? "held back" : "",
            day is null ? "" : image.IsRetired(today) ? $"retired {day}" : $"retires {day}",
        ]).Where(t => t.Length > 0));
    }
}

using Vembar.Store.Places;
using Vembar.Store.Reading;

namespace Vembar.Operations;

/// <summary>An archive and, within it, an image: ARCHIVE#WHICH.</summary>
/// <param name="Archive">The archive's path.</param>
/// <param name="Which">A number, a name, NAME@VERSION, NAME@CHANNEL, NAME@newest or "last"; null when none was said.</param>
public sealed record ImageReference(ArchiveLocation Archive, string? Which)
{
    /// <summary>Splits at the first '#' behind which the path of a file ends; at the last one where there is no such file.</summary>
    /// <param name="text">What was given.</param>
    /// <param name="bases">Where to look for the archive's bases, beside its own folder.</param>
    public static ImageReference Parse(string text, params IReadOnlyList<string> bases)
    {
        if (Native.Posix.Exists(text) || !text.Contains('#'))
            return new ImageReference(new ArchiveLocation(text, bases), null);
        for (var at = text.IndexOf('#'); at >= 0; at = text.IndexOf('#', at + 1))
        {
            if (Native.Posix.Exists(text[..at]))
                return Split(text, at, bases);
        }
        return Split(text, text.LastIndexOf('#'), bases);
    }

    /// <summary>Whether a text names an image, and not a folder or a disk.</summary>
    /// <param name="text">What was given.</param>
    public static bool IsImage(string text) =>
        PlaceAddress.IsRemote(text)
        || !Directory.Exists(text) && Parse(text).Archive.Path is var path && File.Exists(path) && ArchiveReader.IsArchive(path);

    private static ImageReference Split(string text, int at, IReadOnlyList<string> bases) =>
        new(new ArchiveLocation(text[..at], bases), at + 1 == text.Length ? null : WithoutQuotes(text[(at + 1)..]));

    // Quotes that a shell left stand around the name, or around all of it.
    private static string WithoutQuotes(string which) =>
        which.StartsWith('"') && which.IndexOf("\"@", StringComparison.Ordinal) is > 0 and var end ? which[1..end] + which[(end + 1)..]
        : which.Trim('"');

    /// <inheritdoc/>
    public override string ToString() => Which is null ? Archive.Path : $"{Archive}#{Which}";
}

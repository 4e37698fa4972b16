using Vembar.Common;
using Vembar.Operations;
using Vembar.Store.Places;

namespace Vembar.Cli;

/// <summary>What was probably meant by a path that is not what was wanted.</summary>
internal static class PathAdvice
{
    private const string Ending = ".vmb";
    private const int MostListed = 8;

    /// <summary>Says which archive was meant, or which commands take what was named; null where nothing is known.</summary>
    /// <param name="word">The advice that a layer below gives.</param>
    /// <param name="path">The path.</param>
    public static string? Of(string word, string path)
    {
        if (PlaceAddress.IsRemote(path))
            return null;
        try
        {
            return word switch
            {
                "no-such-archive" => Archive(path),
                "not-an-archive" => Directory.Exists(path) ? InFolder(path) : null,
                "no-such-source" => Image(path),
                _ => null,
            };
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    private static string? Archive(string path)
    {
        if (path.Contains('#', StringComparison.Ordinal) && ImageReference.Parse(path).Archive.Path is var alone && File.Exists(alone))
            return $"That names an image; an archive is wanted: '{alone}'.";
        if (File.Exists(path + Ending))
            return $"Did you mean '{path}{Ending}'?";
        var folder = Path.GetDirectoryName(path) ?? "/";
        var names = In(folder.Length == 0 ? "." : folder);
        return EditDistance.Nearest(Path.GetFileName(path), names) is { } near ? $"Did you mean '{Path.Combine(folder, near)}'?" : null;
    }

    private static IReadOnlyList<string> In(string folder) => !Directory.Exists(folder) ? []
        : [.. Directory.EnumerateFiles(folder, "*" + Ending).Select(f => Path.GetFileName(f)).Order(StringComparer.Ordinal)
            .Take(MostListed)];

    private static string? InFolder(string path) => In(path) switch
    {
        [] => null,
        [var only] => $"Did you mean '{Path.Combine(path, only)}'?",
        var several => $"Name one of those in it: {string.Join(", ", several)}.",
    };

    private static string? Image(string path) => path.Contains('#', StringComparison.Ordinal)
        && ImageReference.Parse(path) is { Archive.Path: var archive } && File.Exists(archive)
        ? $"That names an image; a disk or a folder is wanted. `vembar show {path}` shows it, `vembar deploy {path} DISK` makes a disk "
        + "of it." : null;
}

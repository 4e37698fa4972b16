namespace Vembar.Cli.Completion;

/// <summary>Files and folders of this machine that a word may become; the names of folders end with a slash.</summary>
internal static class LocalPaths
{
    private const string Home = "~/";

    /// <summary>Folders, and files with an ending.</summary>
    /// <param name="word">What there is of the path.</param>
    /// <param name="ending">The files' ending; empty for all.</param>
    public static IReadOnlyList<Candidate> Of(string word, string ending = "")
    {
        var begun = word[..(word.LastIndexOf('/') + 1)];
        var folder = begun.StartsWith(Home, StringComparison.Ordinal)
            ? Path.Combine(Environment.GetEnvironmentVariable("HOME") ?? "/", begun[Home.Length..]) : begun.Length == 0 ? "." : begun;
        // What is hidden is offered to those who begin with a dot.
        return !Directory.Exists(folder) ? [] : [.. new DirectoryInfo(folder).EnumerateFileSystemInfos()
            .Where(f => f.Name.StartsWith(word[begun.Length..], StringComparison.OrdinalIgnoreCase)
                && (!f.Name.StartsWith('.') || word.Length > begun.Length))
            .Select(f => (f.Name, IsFolder: Directory.Exists(f.FullName)))
            .Where(f => f.IsFolder || f.Name.EndsWith(ending, StringComparison.OrdinalIgnoreCase))
            .OrderBy(f => f.Name, StringComparer.Ordinal)
            .Select(f => new Candidate($"{begun}{f.Name}{(f.IsFolder ? "/" : "")}"))];
    }

    /// <summary>Folders alone.</summary>
    public static IReadOnlyList<Candidate> Folders(string word) => [.. Of(word).Where(c => c.Value.EndsWith('/'))];
}

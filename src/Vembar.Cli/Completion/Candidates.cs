using System.CommandLine;
using System.Globalization;
using TimeZoneConverter;
using Vembar.Cli.Commands.List;
using Vembar.Cli.Json;
using Vembar.Cli.Manual;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Project;
using Vembar.Operations.Show;
using Vembar.Operations.Survey;
using Vembar.Store.Places;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing.Mending;
using Vembar.Windows.Servicing.Tidying;

namespace Vembar.Cli.Completion;

/// <summary>What an operand or an option's value may be. Only what lies on this machine is looked at, and what cannot be read has
/// nothing to offer.</summary>
internal static class Candidates
{
    private const string Archive = ".vmb";

    public static IReadOnlyList<Candidate> Of(Question question)
    {
        try
        {
            return Find(question);
        }
        catch (Exception failure) when (failure is VembarException || VembarException.From(failure, "read", "") is not null)
        {
            return [];
        }
    }

    private static IReadOnlyList<Candidate> Find(Question q) => (q.Command.Name, q.Symbol.Name, q.Name) switch
    {
        ("help", _, "COMMAND|SUBJECT") => [.. Commands(q), .. Topic.All.Select(t => new Candidate(t.Term, t.Text))],
        ("files" or "take", "PATH", _) or ("service", "--remove", _) => PathsIn(q.First, q.Word),
        (_, "--volume", _) => Volumes(q.First),
        (_, "--time-zone", _) => [.. TZConvert.KnownWindowsTimeZoneIds.Order(StringComparer.Ordinal).Select(z => new Candidate(z))],
        (_, "--feature", _) => Features(q.First),
        (_, "--mend", _) => [new(MendRule.Everything), .. MendRule.All.Select(r => new Candidate(r.Name, r.Title))],
        (_, "--tidy", _) => [new(MendRule.Everything), .. TidyRule.All.Select(r => new Candidate(r.Name, r.Title))],
        (_, "--sort" or "--columns", _) => ListColumns(q),
        (_, "--channel", _) => [.. (Project()?.Channels ?? []).Select(c => new Candidate(c))],
        (_, "PLACE" or "NAME" or "URL" or "SITE" or "MACHINE" or "WAVE" or "RUN", _) => [],
        (_, _, "IMAGE") or (_, "IMAGE", _) => Images(q.Word),
        (_, _, "WHAT" or "TARGET" or "SOURCE" or "FROM") when q.Word.Contains('#', StringComparison.Ordinal) => Images(q.Word),
        (_, _, "ARCHIVE") or (_, "ARCHIVE", _) => LocalPaths.Of(q.Word, Archive),
        (_, "--builds" or "--base", _) or (_, _, "DIR") or (_, "DIR", _) => LocalPaths.Folders(q.Word),
        (_, _, "FILE" or "PATH" or "COPY" or "OTHER" or "OUT" or "TARGET" or "SOURCE" or "FROM" or "WHAT" or "RECIPE" or "PROFILE" or "DISK"
            or "FILE=PATH" or "uefi|bios|FILE") => [.. Alternatives(q), .. LocalPaths.Of(q.Word)],
        _ => Alternatives(q),
    };

    // What the definition lists, or the help's name for it: keep|none.
    private static IReadOnlyList<Candidate> Alternatives(Question q)
    {
        var known = Completer.Known(q.Symbol).ToList();
        return known.Count > 0 ? known : [.. q.Name.Split('|').Where(w => q.Name.Contains('|', StringComparison.Ordinal)
            && w.Length > 0 && w.All(char.IsAsciiLetterLower)).Select(w => new Candidate(w))];
    }

    private static IEnumerable<Candidate> Commands(Question q)
    {
        Command at = q.Parse.RootCommandResult.Command;
        foreach (var word in q.Parse.GetResult((Argument)q.Symbol)?.Tokens.Select(t => t.Value) ?? [])
            at = at.Subcommands.FirstOrDefault(c => c.Name == word) ?? at;
        return at.Subcommands.Where(c => !c.Hidden).Select(c => new Candidate(c.Name, CommandManual.Summary(c.Description ?? "")));
    }

    // Several may be given, with commas between them; one to sort by may have a minus before it.
    private static IReadOnlyList<Candidate> ListColumns(Question q)
    {
        var begun = q.Word[..(q.Word.AsSpan().LastIndexOfAny(',', '-') + 1)];
        return [.. ListColumn.All.Select(c => new Candidate(begun + c.Key))];
    }

    private static ProjectFile? Project()
    {
        var named = Environment.GetEnvironmentVariable("VEMBAR_PROJECT");
        var path = string.IsNullOrEmpty(named) ? ProjectFile.Find(Directory.GetCurrentDirectory(), out _) : named;
        return path is null ? null : ProjectFile.Read(path);
    }

    private static string Whole(string image) => image.StartsWith('#') && Project()?.Archive is { } archive ? archive + image : image;

    private static ArchiveReader? Open(string path) => PlaceAddress.IsRemote(path) || !File.Exists(path) ? null
        : ArchiveReader.Open(new ArchiveLocation(path, []), LocalFileSystem.Instance);

    // Archives until only one is meant, then its images by their names, behind an '@' their versions and channels.
    private static IReadOnlyList<Candidate> Images(string word)
    {
        if (!word.Contains('#', StringComparison.Ordinal))
        {
            var archives = LocalPaths.Of(word, Archive);
            return archives is [var only] && !only.Value.EndsWith('/') ? Images($"{only.Value}#") : archives;
        }
        var mark = word.IndexOf('#', StringComparison.Ordinal);
        var before = word[..(mark + 1)];
        using var archive = Open(ImageReference.Parse(Whole(word)).Archive.Path);
        if (archive is null)
            return [];
        var images = ImageCatalogue.Of(archive).Images;
        if (word.IndexOf('@', StringComparison.Ordinal) is > 0 and var at && at > mark)
        {
            var versions = images.Where(i => i.Name.Equals(word[(mark + 1)..at].Trim('"'), StringComparison.OrdinalIgnoreCase)).ToList();
            return [.. versions.SelectMany(i => i.Channels ?? []).Distinct().Select(c => new Candidate($"{word[..at]}@{c}", "channel")),
                .. versions.Where(i => i.Version.Length > 0).Reverse().Select(i => new Candidate($"{word[..at]}@{i.Version}", About(i))),
                new($"{word[..at]}@newest")];
        }
        return [.. images.GroupBy(i => i.Name, StringComparer.OrdinalIgnoreCase)
                .Select(g => new Candidate(before + g.Key, g.Count() > 1 ? Text.Count(g.Count(), "version") : About(g.First()))),
            .. images.Select(i => new Candidate(string.Create(CultureInfo.InvariantCulture, $"{before}{i.Number}"), i.Name)),
            new($"{before}last")];
    }

    private static string About(ImageRecord image) =>
        string.Join(", ", ((string[])[image.Edition, Text.Time(image.Created)]).Where(t => t.Length > 0));

    // The next part of a path.
    private static IReadOnlyList<Candidate> PathsIn(string image, string word)
    {
        using var archive = Open(ImageReference.Parse(Whole(image)).Archive.Path);
        if (archive is null)
            return [];
        var record = ImageCatalogue.Of(archive).Find(ImageReference.Parse(Whole(image)).Which, TimeProvider.System);
        var tree = new ImageTree(archive, record.Root, "");
        var slash = word.AsSpan().LastIndexOfAny('/', '\\') + 1;
        var folder = WindowsPath.Parse(word[..slash]);
        return tree.Find(folder) is not { } entry ? [] : [.. tree.Entries(entry, folder)
            .Select(e => new Candidate($"{word[..slash]}{e.Name}{(e.Kind == EntryKind.Folder ? "/" : "")}"))];
    }

    private static IReadOnlyList<Candidate> Volumes(string source)
    {
        if (!Path.Exists(source))
            return [];
        var found = new SurveyHandler(new OperationHost()).HandleAsync(new SurveyRequest(source), new Progress<OperationProgress>(),
            default).GetAwaiter().GetResult();
        return [.. found.Volumes.Select(v => new Candidate(v.Number.ToString(CultureInfo.InvariantCulture),
            string.Join(", ", ((string[])[v.Role, v.Label, Text.Size(v.Length)]).Where(t => t.Length > 0))))];
    }

    private static IReadOnlyList<Candidate> Features(string image)
    {
        if (image.Length == 0 || PlaceAddress.IsRemote(Whole(image)))
            return [];
        var found = new ShowHandler(new OperationHost()).HandleAsync(new ShowRequest(ImageReference.Parse(Whole(image))),
            new Progress<OperationProgress>(), default).GetAwaiter().GetResult();
        return [.. (CliJson.Features(found.Packages) ?? []).Select(f => new Candidate($"{f.Name}={(f.On ? "off" : "on")}", f.Title))];
    }
}

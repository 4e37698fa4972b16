using System.CommandLine;
using Vembar.Images.Nodes;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations.Files;
using Vembar.Store.Reading;

namespace Vembar.Cli.Commands.Files;

internal static class FilesCommand
{
    public static VembarCommand Create()
    {
        var image = SharedOptions.Image();
        var path = new Argument<string?>("PATH")
        {
            Description = "A folder, a file, or a pattern ('*', '?', '**'); the root when left out",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var deep = new Option<bool>("--deep") { Description = "Go into folders" };
        var paths = new Option<bool>("--paths") { Description = "Print paths alone, one a line" };
        return new VembarCommand("files", "List what is in a folder of an image, or what matches a pattern",
            "vembar files desks.vmb#1 \"Program Files\"", "vembar files desks.vmb#1 \"Windows/System32/drivers/*.sys\"",
            "vembar files desks.vmb#1 \"**/*.ini\" --paths", "vembar files desks.vmb#1 Windows/Panther --deep --json")
            .With(image, path, deep, paths, SharedOptions.Base, SharedOptions.AtState).Does((parse, session) =>
            {
                var reference = SharedOptions.ImageOf(parse, image, session);
                using var archive = ArchiveReader.Open(reference.Archive, session.Host.Files);
                var record = archive.Find(reference.Which, session.Host.Clock);
                var tree = new ImageTree(archive, record.Root, $"{reference.Archive}#{record.Number}");
                var found = FileSearch.Find(tree, parse.GetValue(path), parse.GetValue(deep)).Select(entry =>
                {
                    session.Cancellation.ThrowIfCancellationRequested();
                    return entry;
                });
                session.LongResult(() => new FilesJson(record, found.Select(From)), json => json.FilesJson, () =>
                {
                    if (!parse.GetValue(paths))
                    {
                        Show(found, session);
                        return;
                    }
                    foreach (var entry in found)
                        Console.Out.WriteLine(Text.Safe(entry.Path.ToString()));
                });
                return ExitCode.Done;
            });
    }

    private static EntryJson From(FoundEntry found)
    {
        var entry = found.Entry;
        return new EntryJson(
            found.Path.ToString(), entry.Kind.ToString().ToLowerInvariant(), entry.Length, entry.Modified?.ToDateTime(),
            [.. Attributes(entry)], entry.Content?.Hash.ToString(), entry.LinkTarget,
            [.. entry.Streams.Select(s => new StreamJson(s.Name, s.Content.Length, s.Content.Hash.ToString()))]);
    }

    private static readonly (WindowsAttributes Flag, string Name)[] s_attributes = [.. Enum.GetValues<WindowsAttributes>()
        .Where(a => a != WindowsAttributes.None).Select(a => (a, char.ToLowerInvariant(a.ToString()[0]) + a.ToString()[1..]))];

    private static IEnumerable<string> Attributes(TreeEntry entry) =>
        entry.Attributes is not { } attributes || attributes == WindowsAttributes.None ? []
        : s_attributes.Where(a => attributes.HasFlag(a.Flag)).Select(a => a.Name);

    private static void Show(IEnumerable<FoundEntry> found, Session session)
    {
        const int AttributesColumn = 2;
        var table = new Table(">Size", "~Modified", "~Attributes", "Path");
        long entries = 0, bytes = 0;
        var attributes = false;
        foreach (var (path, entry) in found)
        {
            entries++;
            bytes += entry.Length;
            attributes |= entry.Attributes is not null;
            var size = entry.Kind == EntryKind.File ? Text.Size(entry.Length) : entry.Kind == EntryKind.Folder ? "folder" : "link";
            var displayName = entry.Kind switch
            {
                EntryKind.Folder => $"{path}/",
                EntryKind.Link => $"{path} -> {entry.LinkTarget}",
                _ =>
                path.ToString()
            };
            var time = entry.Modified is { } modified ? Text.Time(modified.ToDateTime()) : "";
            table.Row(size, time, string.Join(' ', Attributes(entry).Where(a => a is not ("directory" or "archive" or "normal"))),
                displayName);
        }
        if (entries > 0)
            table.Print(session, without: attributes ? -1 : AttributesColumn);
        if (!Console.IsOutputRedirected)
        {
            Session.Line();
            Session.Line($"{Text.Count(entries, "entry", "entries")}, {Text.Size(bytes)}");
        }
    }
}

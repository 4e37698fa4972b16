using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Operations.Files;

/// <summary>Finds files in an image.</summary>
public static class FileSearch
{
    /// <summary>What is in a folder, or what matches a pattern.</summary>
    /// <param name="tree">The image's tree.</param>
    /// <param name="path">A folder, a file or a pattern; null for the root.</param>
    /// <param name="deep">Whether to go into folders.</param>
    /// <exception cref="VembarException">There is nothing at that path, with the nearest name, or nothing matches.</exception>
    public static IEnumerable<FoundEntry> Find(ImageTree tree, string? path, bool deep)
    {
        if (path is not null && Glob.IsPattern(path))
        {
            var glob = Glob.Parse(path);
            var start = glob.FixedPart();
            var matching = tree.Find(start) is { Kind: EntryKind.Folder } from
                ? tree.Walk(from, start).Where(e => glob.Matches(e.Path.Parts)).Select(e => new FoundEntry(e.Path, e.Entry)) : [];
            return matching.Any() ? matching : throw VembarException.Input("no-such-path",
                $"nothing in {tree.DisplayName} matches '{path}'", path.Contains("**", StringComparison.Ordinal) ? ""
                : $"'*' stays within a folder; '**/{path.TrimStart('/')}' looks in all of them.");
        }
        var at = WindowsPath.Parse(path ?? "/");
        var entry = Locate(tree, at);
        if (entry.Kind != EntryKind.Folder)
            return [new FoundEntry(at, entry)];
        return deep ? tree.Walk(entry, at).Select(e => new FoundEntry(e.Path, e.Entry))
            : tree.Entries(entry, at).Select(e => new FoundEntry(at.Child(e.Name), e));
    }

    /// <summary>The entry at a path.</summary>
    /// <exception cref="VembarException">There is none, with the nearest name.</exception>
    public static TreeEntry Locate(ImageTree tree, WindowsPath path)
    {
        if (tree.Find(path) is { } entry)
            return entry;
        // As deep as the path is right, then the name nearest to the wrong part.
        var good = WindowsPath.Root;
        foreach (var part in path.Parts)
        {
            if (tree.Find(good.Child(part)) is null)
            {
                var near = tree.Names(good).Select(n => (Name: n, Distance: EditDistance.Distance(n, part)))
                    .Where(n => n.Distance <= Math.Max(2, part.Length / 3)).OrderBy(n => n.Distance).FirstOrDefault();
                throw VembarException.Input("no-such-path", $"{tree.DisplayName} has no '{path}'",
                    near.Name is null ? Advice.Of("list-paths", ("displayName", tree.DisplayName), ("good", good.ToString()))
                    : Advice.Of("near-path", ("value", good.Child(near.Name).ToString())));
            }
            good = good.Child(part);
        }
        throw VembarException.Input("no-such-path", $"{tree.DisplayName} has no '{path}'");
    }
}

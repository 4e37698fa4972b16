using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Store.Hashing;
using Vembar.Windows.Install;

namespace Vembar.Operations.Report;

/// <summary>Where the room of an image goes.</summary>
/// <param name="Number">The image.</param>
/// <param name="Root">By folder.</param>
/// <param name="Programs">By program, the largest first; those of which nothing is known are left out.</param>
public sealed record ImageSpace(int Number, FolderSpace Root, IReadOnlyList<ProgramSpace> Programs)
{
    private const int Deepest = 4;

    /// <summary>Measures an image.</summary>
    /// <param name="number">Its number.</param>
    /// <param name="tree">Its tree.</param>
    /// <param name="programs">What is installed in it.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">It is damaged.</exception>
    public static ImageSpace Of(int number, ImageTree tree, IReadOnlyList<InstalledProgram> programs, CancellationToken cancellation)
    {
        var located = programs.Select(p => (Program: p, Path: PathOf(p.Location))).ToList();
        var reading = new Reading(tree, [.. located.Select(l => l.Path).OfType<WindowsPath>()], cancellation);
        var root = reading.Measure(tree.Root, WindowsPath.Root);
        var rows = located.Select(l =>
        {
            var measured = l.Path is null ? null : reading.BytesAt(l.Path);
            return (measured ?? l.Program.Bytes) is { } bytes and > 0
                ? new ProgramSpace(l.Program.Name, l.Program.Version, l.Program.Publisher, bytes, measured is not null) : null;
        });
        // Below what can be seen.
        return new ImageSpace(number, Pruned(root, root.Bytes / 400, Deepest),
            [.. rows.OfType<ProgramSpace>().OrderByDescending(r => r.Bytes).ThenBy(r => r.Name, StringComparer.Ordinal)]);
    }

    // The folder of a program on the volume that Windows is on; null where it says none.
    private static WindowsPath? PathOf(string location)
    {
        const int Drive = 3;
        var path = location.Trim().Trim('"');
        if (path.Length <= Drive || path[1] != ':' || path[2] is not ('\\' or '/'))
            return null;
        try
        {
            return WindowsPath.Parse(path[Drive..]) is { IsRoot: false } parsed ? parsed : null;
        }
        catch (VembarException)
        {
            return null;
        }
    }

    private static FolderSpace Pruned(FolderSpace folder, long least, int depth) => folder with
    {
        Folders = depth == 0 ? [] : [.. folder.Folders.Where(f => f.Bytes > least).OrderByDescending(f => f.Bytes)
            .ThenBy(f => f.Name, StringComparer.Ordinal).Select(f => Pruned(f, least, depth - 1))],
    };

    private sealed class Reading(ImageTree tree, HashSet<WindowsPath> wanted, CancellationToken cancellation)
    {
        private readonly HashSet<(ulong Group, ChunkId Content)> _linked = [];
        private readonly Dictionary<WindowsPath, long> _measured = [];

        public long? BytesAt(WindowsPath path) => _measured.TryGetValue(path, out var bytes) ? bytes : null;

        public FolderSpace Measure(TreeEntry folder, WindowsPath path)
        {
            cancellation.ThrowIfCancellationRequested();
            long bytes = 0, files = 0;
            var folders = new List<FolderSpace>();
            foreach (var entry in tree.Entries(folder, path))
            {
                bytes += entry.Streams.Sum(s => s.Content?.Length ?? 0);
                if (entry.Kind == EntryKind.Folder)
                {
                    var below = Measure(entry, path.Child(entry.Name));
                    bytes += below.Bytes;
                    files += below.Files;
                    // What is deeper than anybody is shown is only counted.
                    folders.Add(path.Parts.Count < Deepest ? below : below with { Folders = [] });
                    continue;
                }
                files++;
                if (entry.Content is { } content && (entry.LinkGroup == 0 || _linked.Add((entry.LinkGroup, content.Hash))))
                    bytes += content.Length;
            }
            if (wanted.Contains(path))
                _measured[path] = bytes;
            return new FolderSpace(folder.Name, bytes, files, folders);
        }
    }
}

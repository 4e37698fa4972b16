using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Writing;
using Vembar.Volumes.Pipeline;
using Vembar.Volumes.Sources;

namespace Vembar.Operations.Capture;

/// <summary>Stores what a walk over a source found: first the contents of its files, then the tree.</summary>
/// <param name="host">What the work gets from the program that it runs in.</param>
/// <param name="writer">Where it goes.</param>
/// <param name="source">Where the contents are read.</param>
internal sealed class TreeCapture(OperationHost host, ArchiveWriter writer, ISource source)
{
    /// <summary>Stores it; nothing of it counts before an image with its root is committed.</summary>
    /// <param name="tree">What the walk found; what is in its folders is forgotten.</param>
    /// <param name="all">Whether files are read whose content is known from an earlier image.</param>
    /// <param name="options">How contents are read and stored.</param>
    /// <param name="progress">Told how far it is.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">Something cannot be read or written.</exception>
    public async Task<CapturedTree> StoreAsync(SourceTree tree, bool all, PipelineOptions options, IProgress<OperationProgress> progress,
        CancellationToken cancellation)
    {
        var files = ContentFiles(tree.Root, all);
        var total = files.Sum(f => f.Length);
        host.Memory.EndPhase(tree.Files);
        using var pipeline = new ContentPipeline(writer, source, options);
        await pipeline.RunAsync(files,
            state => progress.Report(new OperationProgress("reading and storing", state.BytesRead, total, true, state.Current)),
            cancellation).ConfigureAwait(false);
        var leftOut = tree.Excluded.Concat(pipeline.Unreadable).OrderBy(l => l.Path, StringComparer.Ordinal).ToList();
        var warnings = leftOut.Where(l => l.Rule.StartsWith("unreadable", StringComparison.Ordinal))
            .Select(l => $"'{l.Path}' cannot be read and is not in the image").ToList();
        warnings.AddRange(pipeline.Changed.Select(path => $"'{path}' changed while it was read; the image holds what was read last"));
        var filesRead = files.Count;
        files = [];
        host.Memory.EndPhase(tree.Files);
        progress.Report(new OperationProgress("writing the index", 0, 0, false, ""));
        var vanished = new List<string>();
        var root = FolderWriter.Write(writer, [WriteNode(tree.Root, vanished)]);
        warnings.AddRange(vanished.Except(pipeline.Unreadable.Select(u => u.Path))
            .Select(path => $"'{path}' went away while the folder was read; it is not in the image"));
        cancellation.ThrowIfCancellationRequested();
        host.Memory.EndPhase(tree.Files);
        return new CapturedTree(root, filesRead, vanished.Count, leftOut, warnings, pipeline.State);
    }

    // Like lies beside like: first by kind of file, then by name, so that versions of one file meet in one block.
    private static List<SourceNode> ContentFiles(SourceNode root, bool all)
    {
        var files = new List<SourceNode>();
        void Collect(SourceNode folder)
        {
            foreach (var node in folder.Children!)
            {
                if (node.Children is not null)
                    Collect(node);
                else if (node.Kind == EntryKind.File && node.HardLinkOf is null)
                {
                    if (node.Content is not null && !all)
                        continue;
                    if (node.Length == 0)
                        node.Content = FileContent.Empty;
                    else
                        files.Add(node);
                }
            }
        }
        Collect(root);
        var keys = new LikeKey[files.Count];
        for (var i = 0; i < keys.Length; i++)
            keys[i] = new LikeKey(files[i]);
        Array.Sort(keys);
        return [.. keys.Select(k => k.Node)];
    }

    // The order of like beside like. The first letters of the kind and of the name decide most of it, as numbers.
    private readonly struct LikeKey(SourceNode node) : IComparable<LikeKey>
    {
        private readonly ulong _kind = FirstLetters(Path.GetExtension(node.Name.AsSpan()));
        private readonly ulong _name = FirstLetters(node.Name);

        public SourceNode Node => node;

        private static ulong FirstLetters(ReadOnlySpan<char> text)
        {
            const int Letters = 4;
            var number = 0ul;
            for (var i = 0; i < Letters; i++)
                number = number << 16 | (i < text.Length ? char.ToUpperInvariant(text[i]) : 0u);
            return number;
        }

        public int CompareTo(LikeKey other)
        {
            var order = _kind.CompareTo(other._kind);
            if (order == 0)
                order = Path.GetExtension(Node.Name.AsSpan())
                    .CompareTo(Path.GetExtension(other.Node.Name.AsSpan()), StringComparison.OrdinalIgnoreCase);
            if (order == 0)
                order = _name.CompareTo(other._name);
            if (order == 0)
                order = string.Compare(Node.Name, other.Node.Name, StringComparison.OrdinalIgnoreCase);
            return order != 0 ? order : Node.Length.CompareTo(other.Node.Length);
        }
    }

    private FileContent StoreStream(SourceNode node, PendingStream stream)
    {
        if (stream.Bytes is not null)
            return ContentStore.Add(writer, stream.Bytes);
        try
        {
            using var file = stream.Open!();
            return ContentStore.Add(writer, file);
        }
        catch (Native.NativeException failure)
        {
            throw VembarException.From(failure, $"read the stream '{stream.Name}' of", node.Path.ToString())!;
        }
    }

    private TreeEntry WriteNode(SourceNode node, List<string> vanished)
    {
        var entry = node.Entry;
        if (entry.PendingSecurity is not null)
            entry = entry with { Security = writer.Add(BlockKind.Tree, entry.PendingSecurity), PendingSecurity = null };
        if (entry.PendingStreams.Count > 0)
        {
            entry = entry with
            {
                Streams = [.. entry.PendingStreams.Select(s => new NamedStream(s.Name, StoreStream(node, s)))],
                PendingStreams = [],
            };
        }
        if (node.HardLinkOf is not null)
            return entry with { Content = node.HardLinkOf.Content };
        if (node.Children is null)
            return node.Content is null ? entry : entry with { Content = node.Content };
        if (node.IsUnchanged)
            return entry with { Folder = WriteFolderAsItWas(node, vanished) };
        // One at a time: of a large folder, the entries would be most of the memory.
        node.Children.Sort((a, b) => string.CompareOrdinal(a.Name, b.Name));
        var folder = new FolderWriter(writer);
        foreach (ref var place in System.Runtime.InteropServices.CollectionsMarshal.AsSpan(node.Children))
        {
            // What is written is not needed any more; of a million files that is most of the memory.
            var child = place;
            place = null!;
            if ((child.HardLinkOf ?? child).Vanished)
                vanished.Add(child.Path.ToString());
            else
                folder.Add(WriteNode(child, vanished));
        }
        node.ForgetChildren();
        return entry with { Folder = folder.Finish() };
    }

    // Only what is in its folders may have changed.
    private ChunkId WriteFolderAsItWas(SourceNode node, List<string> vanished)
    {
        var earlier = node.Earlier!.Value;
        var changed = new Dictionary<string, ChunkId>();
        foreach (var child in node.Children!)
        {
            if (WriteNode(child, vanished).Folder is var folder && folder != child.Earlier)
                changed[child.Name] = folder;
        }
        if (node.Parent is not null)
            node.ForgetChildren();
        if (changed.Count == 0)
            return earlier;
        try
        {
            return FolderWriter.Write(writer,
                [.. FolderReader.Read(writer.Base, earlier).Select(e => changed.TryGetValue(e.Name, out var folder) ? e with
                {
                    Folder = folder,
                } : e)]);
        }
        catch (BinaryFormatException problem)
        {
            throw VembarException.Damaged($"'{writer.Base.Path}': the folder '{node.Path}' of the earlier image cannot be read: "
                + $"{problem.Message}", Advice.Of("capture-anew"));
        }
    }
}

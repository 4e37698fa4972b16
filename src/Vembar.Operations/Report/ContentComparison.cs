using System.Collections;
using System.Runtime.InteropServices;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Store.Hashing;

namespace Vembar.Operations.Report;

/// <summary>
/// Finds out how much content images have in common. Each folder that several images have is read once: which images a chunk is in follows
/// from which folders name it.
/// </summary>
/// <param name="cancellation">Ends it.</param>
public sealed class ContentComparison(CancellationToken cancellation)
{
    private const int WordBits = 64;
    private readonly List<int> _roots = [];
    // Folders and chunks of all images, each once. A folder comes behind all that is in it.
    private readonly Dictionary<ChunkId, int> _folderAt = [];
    private readonly List<(int[] Folders, int[] Chunks)> _folders = [];
    private readonly Dictionary<ChunkId, int> _chunkAt = [];
    private readonly List<long> _lengths = [];

    /// <summary>Adds an image; when it fails, the image is none of those that are compared.</summary>
    /// <exception cref="VembarException">It is damaged.</exception>
    public void Add(ImageTree tree) => _roots.Add(Add(tree, tree.Root, WindowsPath.Root));

    /// <summary>Compares those that were added, in the order in which they were.</summary>
    public ContentSharing Compare()
    {
        var shared = new long[_roots.Count, _roots.Count];
        var own = new long[_roots.Count];
        long distinct = 0;
        foreach (var (images, bytes) in Sets())
        {
            distinct += bytes;
            if (images.Count == 1)
                own[images[0]] += bytes;
            foreach (var one in images)
            {
                foreach (var other in images)
                    shared[one, other] += bytes;
            }
        }
        return new ContentSharing(shared, own, distinct);
    }

    private int Add(ImageTree tree, TreeEntry folder, WindowsPath path)
    {
        if (_folderAt.TryGetValue(folder.Folder, out var known))
            return known;
        cancellation.ThrowIfCancellationRequested();
        var folders = new List<int>();
        var chunks = new HashSet<int>();
        void Content(FileContent? content, string name)
        {
            if (content is null || content.Length == 0)
                return;
            foreach (var part in tree.Parts(content, path.Child(name)).Where(p => !p.IsHole))
                chunks.Add(ChunkAt(part));
        }
        foreach (var entry in tree.Entries(folder, path))
        {
            Content(entry.Content, entry.Name);
            foreach (var stream in entry.Streams)
                Content(stream.Content, entry.Name);
            if (entry.Kind == EntryKind.Folder)
                folders.Add(Add(tree, entry, path.Child(entry.Name)));
        }
        _folders.Add(([.. folders], [.. chunks]));
        return _folderAt[folder.Folder] = _folders.Count - 1;
    }

    private int ChunkAt(ContentPart part)
    {
        ref var at = ref CollectionsMarshal.GetValueRefOrAddDefault(_chunkAt, part.Id, out var exists);
        if (!exists)
        {
            at = _lengths.Count;
            _lengths.Add(part.Length);
        }
        return at;
    }

    // The sets of images that have something in common that no other image has, and how much.
    private IEnumerable<(IReadOnlyList<int> Images, long Bytes)> Sets()
    {
        var words = Math.Max(1, (_roots.Count + WordBits - 1) / WordBits);
        var folders = new ulong[(long)_folders.Count * words];
        var chunks = new ulong[(long)_lengths.Count * words];
        for (var image = 0; image < _roots.Count; image++)
            folders[(long)_roots[image] * words + image / WordBits] |= 1UL << (image % WordBits);
        // From the roots down: what is in a folder is in every image that the folder is in.
        for (var at = _folders.Count - 1; at >= 0; at--)
        {
            var own = folders.AsSpan(at * words, words);
            foreach (var below in _folders[at].Folders)
                Join(folders.AsSpan(below * words, words), own);
            foreach (var chunk in _folders[at].Chunks)
                Join(chunks.AsSpan(chunk * words, words), own);
        }
        var sets = new Dictionary<string, long>(StringComparer.Ordinal);
        for (var chunk = 0; chunk < _lengths.Count; chunk++)
        {
            var key = new string(MemoryMarshal.Cast<ulong, char>(chunks.AsSpan(chunk * words, words)));
            CollectionsMarshal.GetValueRefOrAddDefault(sets, key, out _) += _lengths[chunk];
        }
        // Folders of an image that could not be added are in none.
        return sets.Select(s => (Images: Images(s.Key), Bytes: s.Value)).Where(s => s.Images.Count > 0);
    }

    private static void Join(Span<ulong> to, ReadOnlySpan<ulong> from)
    {
        for (var word = 0; word < to.Length; word++)
            to[word] |= from[word];
    }

    private static IReadOnlyList<int> Images(string key)
    {
        var bits = new BitArray(MemoryMarshal.AsBytes(key.AsSpan()).ToArray());
        return [.. Enumerable.Range(0, bits.Length).Where(i => bits[i])];
    }
}

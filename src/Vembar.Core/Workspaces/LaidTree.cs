using Vembar.Core.Content;
using Vembar.Core.Sources;
using Vembar.Core.Trees;

namespace Vembar.Core.Workspaces;

/// <summary>What the file system said of an entry of a workspace when it was laid open: it tells whether anybody touched it since.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Kind">File, folder or link.</param>
/// <param name="Length">Its length in bytes.</param>
/// <param name="Modified">When its content changed.</param>
/// <param name="Changed">When anything of it changed; nobody can set that back.</param>
/// <param name="FileId">What the file system knows it by.</param>
/// <param name="Owner">Owner and permissions.</param>
/// <param name="Children">What is in a folder, by name.</param>
internal sealed record LaidEntry(string Name, EntryKind Kind, long Length, FileTime? Modified, long Changed, ulong FileId, PosixOwner Owner, IReadOnlyList<LaidEntry> Children)
{
    /// <summary>Of a folder that was just walked over.</summary>
    public static LaidEntry Of(SourceNode node) => new(
        node.Name, node.Kind, (node.SameAs ?? node).Length, node.Modified, node.Changed, node.FileId, node.Entry.Owner ?? default, node.Children is null ? [] : [.. node.Children.Select(Of)]);

    /// <summary>Whether a file is untouched.</summary>
    public bool IsUntouched(SourceNode node) => node.Kind == Kind && (node.SameAs ?? node).Length == Length && node.Modified == Modified && node.Changed == Changed && node.FileId == FileId;

    /// <summary>Entries with their paths, folders before what is in them.</summary>
    public IEnumerable<(string Path, LaidEntry Entry)> All(string path = "") => Children.SelectMany(c => c.All($"{path}{c.Name}/").Prepend(($"{path}{c.Name}", c)));

    /// <summary>The paths of what has nothing in it.</summary>
    public IEnumerable<WindowsPath> Leaves(WindowsPath at) => Children.Count > 0 ? Children.SelectMany(c => c.Leaves(at.Child(c.Name))) : [at];
}

/// <summary>The list of laid entries as a file: a mark, the entries, and a hash of both.</summary>
internal static class LaidTree
{
    private static ReadOnlySpan<byte> Mark => "VMBLAID1"u8;

    public static byte[] Encode(LaidEntry root)
    {
        var data = new BinaryFormatWriter().Bytes(Mark);
        Write(data, root);
        var hash = Blake3.Hash(data.Written);
        return data.Id(hash).Written.ToArray();
    }

    private static void Write(BinaryFormatWriter data, LaidEntry entry)
    {
        data.Text(entry.Name).Byte((byte)entry.Kind).Number((ulong)entry.Length).UInt64((ulong)(entry.Modified?.Ticks ?? 0)).Byte(entry.Modified?.Rest ?? 0)
            .UInt64((ulong)entry.Changed).UInt64(entry.FileId).Number(entry.Owner.Mode).Number(entry.Owner.Uid).Number(entry.Owner.Gid).Number((ulong)entry.Children.Count);
        foreach (var child in entry.Children)
            Write(data, child);
    }

    /// <exception cref="BinaryFormatException">The file is damaged.</exception>
    public static LaidEntry Decode(ReadOnlySpan<byte> bytes)
    {
        const string What = "list of laid files";
        if (bytes.Length < Mark.Length + ChunkId.Length || !bytes.StartsWith(Mark) || Blake3.Hash(bytes[..^ChunkId.Length]) != ChunkId.Read(bytes[^ChunkId.Length..]))
            throw new BinaryFormatException(What, 0, "it is damaged");
        var reader = new BinaryFormatReader(bytes[Mark.Length..^ChunkId.Length], What);
        var root = Read(ref reader, 0);
        reader.End();
        return root;
    }

    private static LaidEntry Read(ref BinaryFormatReader reader, int depth)
    {
        const int Deepest = 10_000;
        if (depth > Deepest)
            throw reader.Error("it is too deep");
        var entry = new LaidEntry(reader.Text(), (EntryKind)reader.Byte(), (long)reader.Number(), new FileTime(reader.Int64(), reader.Byte()), reader.Int64(), reader.UInt64(),
            new PosixOwner((uint)reader.Number(), (uint)reader.Number(), (uint)reader.Number()), []);
        var children = new LaidEntry[reader.Count(2)];
        for (var i = 0; i < children.Length; i++)
            children[i] = Read(ref reader, depth + 1);
        return entry with { Children = children };
    }
}

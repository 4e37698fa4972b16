using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Store.Format;
using Vembar.Store.Hashing;

namespace Vembar.Operations.Workspaces;

/// <summary>The list of laid entries as a file: a mark, the entries, and a hash of both.</summary>
internal static class WorkspaceBaseline
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
        data.Text(entry.Name).Byte((byte)entry.Kind).Number((ulong)entry.Length).UInt64((ulong)(entry.Modified?.Ticks ?? 0))
            .Byte(entry.Modified?.Rest ?? 0)
            .UInt64((ulong)entry.Changed).UInt64(entry.FileId).Number(entry.Owner.Mode).Number(entry.Owner.Uid).Number(entry.Owner.Gid)
                .Number((ulong)entry.Children.Count);
        foreach (var child in entry.Children)
            Write(data, child);
    }

    /// <exception cref="BinaryFormatException">The file is damaged.</exception>
    public static LaidEntry Decode(ReadOnlySpan<byte> bytes)
    {
        const string What = "list of laid files";
        if (bytes.Length < Mark.Length + ChunkId.Length || !bytes.StartsWith(Mark)
            || Blake3.Hash(bytes[..^ChunkId.Length]) != ChunkId.Read(bytes[^ChunkId.Length..]))
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
        var entry = new LaidEntry(reader.Text(), (EntryKind)reader.Byte(), (long)reader.Number(),
            new FileTime(reader.Int64(), reader.Byte()), reader.Int64(), reader.UInt64(),
            new PosixOwner((uint)reader.Number(), (uint)reader.Number(), (uint)reader.Number()), []);
        var children = new LaidEntry[reader.Count(2)];
        for (var i = 0; i < children.Length; i++)
            children[i] = Read(ref reader, depth + 1);
        return entry with { Children = children };
    }
}

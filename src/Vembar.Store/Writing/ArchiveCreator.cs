using System.Text.Json;
using Vembar.Native;
using Vembar.Store.Chunking;
using Vembar.Store.Compression;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Store.Index;
using Vembar.Store.Places;

namespace Vembar.Store.Writing;

/// <summary>Makes new archives. docs/archive-format.md, "Structure".</summary>
internal static class ArchiveCreator
{
    /// <summary>Makes an archive without images. It appears under its name whole, so that two makers cannot collide.</summary>
    /// <returns>False when another made it meanwhile.</returns>
    public static bool TryCreate(string path, WriterOptions options)
    {
        var fileSystem = options.Files;
        var full = Path.GetFullPath(path);
        var scratch = Path.Combine(Path.GetDirectoryName(full)!,
            $".{Path.GetFileName(full)}.new-{Environment.ProcessId}-{Guid.NewGuid():N}");
        try
        {
            using (var file = fileSystem.CreateNew(scratch))
                WriteEmpty(file, new ArchiveHeader(Guid.NewGuid(), ChunkSizes.Standard, options.BasedOn), options);
            fileSystem.Rename(scratch, full, replace: false);
            return true;
        }
        catch (NativeException failure) when (failure.Errno == Errno.Exists)
        {
            fileSystem.Delete(scratch);
            return false;
        }
        catch
        {
            if (Posix.Exists(scratch))
                fileSystem.Delete(scratch);
            throw;
        }
    }

    /// <summary>Writes the header and a first state that lists no images.</summary>
    public static void WriteEmpty(IArchiveFile file, ArchiveHeader header, WriterOptions options)
    {
        file.Write(header.Encode(), 0);
        var catalogue = new Catalogue { Change = "new", By = options.By.Length > 0 ? options.By : null };
        var bytes = JsonSerializer.SerializeToUtf8Bytes(catalogue, RecordJson.Default.Catalogue);
        var id = Blake3.Hash(bytes);
        using var builder = new BlockBuilder(BlockKind.Record);
        builder.Add(id, bytes);
        var zstd = ZstdPool.Rent();
        using var block = builder.Pack(Effort.Balanced, zstd, veil: true);
        ZstdPool.Return(zstd);
        var at = (long)header.Length;
        file.Write(block.Bytes, at);
        var chunks = new ChunkTable();
        chunks.Set(id, 0, 0, bytes.Length);
        var info = block.Info with { Offset = at };
        var state = new StateWriter(file, header, at + info.WholeLength, options.Clock);
        state.Write([info], chunks, [], [(info, block.Bytes.ToArray())], id, null);
    }
}

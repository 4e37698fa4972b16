using System.Collections.Concurrent;
using Vembar.Native;

namespace Vembar.Store.Compression;

/// <summary>Compressors and decompressors kept for the next use; making one is dear, each serves one thread at a time.</summary>
internal static class ZstdPool
{
    private static readonly ConcurrentBag<Zstd> s_idle = [];

    public static Zstd Rent() => s_idle.TryTake(out var zstd) ? zstd : new Zstd();

    public static void Return(Zstd zstd)
    {
        if (s_idle.Count < Environment.ProcessorCount * 2)
            s_idle.Add(zstd);
        else
            zstd.Dispose();
    }
}

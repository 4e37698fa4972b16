using System.Buffers;

namespace Vembar.Store.Places;

/// <summary>Waits for what comes from afar where nothing else can be done meanwhile.</summary>
internal static class Blocking
{
    public static T Wait<T>(Task<T> task) => task.GetAwaiter().GetResult();

    public static void Wait(Task task) => task.GetAwaiter().GetResult();

    /// <summary>Reads from a source that can only be waited for.</summary>
    public static int Read(IByteSource source, Span<byte> to, long offset) => Read(room => source.ReadAsync(room, offset), to);

    /// <summary>Reads what can only be waited for.</summary>
    public static int Read(Func<Memory<byte>, ValueTask<int>> read, Span<byte> to)
    {
        var buffer = ArrayPool<byte>.Shared.Rent(to.Length);
        try
        {
            var count = Wait(read(buffer.AsMemory(0, to.Length)).AsTask());
            buffer.AsSpan(0, count).CopyTo(to);
            return count;
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(buffer);
        }
    }
}

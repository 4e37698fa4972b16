namespace Vembar.Store.Places;

/// <summary>Reading from a <see cref="IByteSource"/> where nothing else can be done meanwhile.</summary>
internal static class ByteSources
{
    extension(IByteSource source)
    {
        /// <summary>Reads from many places and waits for it.</summary>
        public void ReadMany(IReadOnlyList<ByteRange> ranges)
        {
            if (ranges.Count == 0)
                return;
            var reading = source.ReadManyAsync(ranges);
            if (reading.IsCompleted)
                reading.GetAwaiter().GetResult();
            else
                reading.AsTask().GetAwaiter().GetResult();
        }
    }
}

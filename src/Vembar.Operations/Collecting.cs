using System.Runtime;

namespace Vembar.Operations;

/// <summary>Gives memory back between the phases of work on very many files.</summary>
internal static class Collecting
{
    /// <summary>Keeps the collector away while a tree is read, for of what is made then most stays; until it has taken as much memory as
    /// that may.</summary>
    public static IDisposable Paused()
    {
        const long Most = 96 << 20;
        try
        {
            return new Pause(GCSettings.LatencyMode != GCLatencyMode.NoGCRegion && GC.TryStartNoGCRegion(Most));
        }
        catch (Exception refused) when (refused is InvalidOperationException or ArgumentOutOfRangeException)
        {
            // Another operation of this process was a moment earlier, or there is not so much memory.
            return new Pause(false);
        }
    }

    private sealed class Pause(bool began) : IDisposable
    {
        public void Dispose()
        {
            try
            {
                if (began && GCSettings.LatencyMode == GCLatencyMode.NoGCRegion)
                    GC.EndNoGCRegion();
            }
            catch (InvalidOperationException)
            {
                // It has ended already: more was made than was thought, perhaps by others.
            }
        }
    }

    // What a phase left behind stays in memory until the collector has a reason; with very many files that is a third of it.
    public static void After(long files)
    {
        const int Many = 250_000;
        if (files >= Many)
            GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
    }
}

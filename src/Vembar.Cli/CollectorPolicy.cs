using System.Runtime;
using Vembar.Operations;

namespace Vembar.Cli;

/// <summary>
/// What this program does about memory, as it does one thing and ends: the collector is kept away while a tree is read, and memory is given
/// back between the phases of work on very many files.
/// </summary>
internal sealed class CollectorPolicy : IMemoryPolicy
{
    /// <summary>Keeps the collector away until as much memory is taken as that may.</summary>
    public IDisposable BeginKeeping()
    {
        const long Most = 96 << 20;
        try
        {
            return new Pause(GCSettings.LatencyMode != GCLatencyMode.NoGCRegion && GC.TryStartNoGCRegion(Most));
        }
        catch (Exception refused) when (refused is InvalidOperationException or ArgumentOutOfRangeException)
        {
            // There is not so much memory.
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

    /// <summary>What a phase left behind would stay until the collector has a reason; with very many files that is a third of the
    /// memory.</summary>
    public void EndPhase(long files)
    {
        const int Many = 250_000;
        if (files >= Many)
            GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
    }
}

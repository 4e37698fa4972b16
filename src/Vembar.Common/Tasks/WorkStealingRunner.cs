using System.Runtime.ExceptionServices;

namespace Vembar.Common.Tasks;

/// <summary>Work that turns up more work, as folders do: as many threads as there are processors, each taking what was found
/// last.</summary>
internal static class WorkStealingRunner
{
    /// <summary>Does something with each of many, one after the other by whoever is free, so that all end together and what lies together
    /// is done together.</summary>
    /// <param name="count">How many.</param>
    /// <param name="step">Does one, by its number.</param>
    /// <param name="cancellation">Ends the work.</param>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    /// <remarks>The first exception of a step ends the others and is thrown here as it is.</remarks>
    public static void Each(int count, Action<int> step, CancellationToken cancellation)
    {
        var next = -1;
        ExceptionDispatchInfo? failure = null;
        var crew = Math.Min(Environment.ProcessorCount, count);
        Parallel.For(0, crew, new ParallelOptions { MaxDegreeOfParallelism = Math.Max(1, crew) }, _ =>
        {
            for (int i; Volatile.Read(ref failure) is null && (i = Interlocked.Increment(ref next)) < count;)
            {
                try
                {
                    cancellation.ThrowIfCancellationRequested();
                    step(i);
                }
                catch (Exception problem)
                {
                    Interlocked.CompareExchange(ref failure, ExceptionDispatchInfo.Capture(problem), null);
                }
            }
        });
        failure?.Throw();
    }

    /// <summary>Does all of it. What one thread gathers is its own; who does what is left to chance.</summary>
    /// <param name="first">What to begin with.</param>
    /// <param name="gather">What a thread gathers in.</param>
    /// <param name="step">Does one piece; given what its thread gathers in, and how to hand on what it finds.</param>
    /// <param name="cancellation">Ends the work.</param>
    /// <returns>What each thread gathered.</returns>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    /// <remarks>The first exception of a step ends the others and is thrown here as it is.</remarks>
    public static IReadOnlyList<TGathered> Run<TWork, TGathered>(
        TWork first, Func<TGathered> gather, Action<TWork, TGathered, Action<TWork>> step, CancellationToken cancellation)
    {
        var open = new Stack<TWork>([first]);
        var atWork = 0;
        ExceptionDispatchInfo? failure = null;
        var gate = new object();
        void Add(TWork work)
        {
            lock (gate)
            {
                open.Push(work);
                Monitor.Pulse(gate);
            }
        }
        bool TryTake(out TWork work)
        {
            lock (gate)
            {
                while (open.Count == 0 && atWork > 0 && failure is null)
                    Monitor.Wait(gate);
                work = default!;
                if (open.Count == 0 || failure is not null)
                    return false;
                work = open.Pop();
                atWork++;
                return true;
            }
        }
        void Done(Exception? problem)
        {
            lock (gate)
            {
                atWork--;
                failure ??= problem is null ? null : ExceptionDispatchInfo.Capture(problem);
                if (atWork == 0 || failure is not null)
                    Monitor.PulseAll(gate);
            }
        }
        var gathered = new TGathered[Environment.ProcessorCount];
        Parallel.For(0, gathered.Length, new ParallelOptions { MaxDegreeOfParallelism = gathered.Length }, i =>
        {
            gathered[i] = gather();
            while (TryTake(out var work))
            {
                Exception? problem = null;
                try
                {
                    cancellation.ThrowIfCancellationRequested();
                    step(work, gathered[i], Add);
                }
                catch (Exception caught)
                {
                    problem = caught;
                }
                Done(problem);
            }
        });
        failure?.Throw();
        return gathered;
    }
}

using System.Runtime.ExceptionServices;

namespace Vembar.Common.Tasks;

/// <summary>Work on several cores by some workers, each taking what is next when it is free. All of them have ended when the task that
/// is returned has.</summary>
/// <remarks>The first exception of a step ends the others and is thrown as it is.</remarks>
internal static class WorkStealingRunner
{
    /// <summary>Does something with each of many, one after the other by whoever is free, so that all end together and what lies together
    /// is done together.</summary>
    /// <param name="count">How many.</param>
    /// <param name="workers">How many at once at most.</param>
    /// <param name="step">Does one, by its number.</param>
    /// <param name="cancellation">Ends the work.</param>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public static async Task EachAsync(int count, int workers, Action<int> step, CancellationToken cancellation)
    {
        var next = -1;
        ExceptionDispatchInfo? failure = null;
        void Work()
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
        }
        await Task.WhenAll(Enumerable.Range(0, Math.Min(workers, count)).Select(_ => Task.Run(Work, CancellationToken.None)))
            .ConfigureAwait(false);
        failure?.Throw();
    }

    /// <summary>Does work that turns up more work, as folders do; what was found last is taken first. What one worker gathers is its own;
    /// who does what is left to chance.</summary>
    /// <param name="first">What to begin with.</param>
    /// <param name="workers">How many at once at most.</param>
    /// <param name="gather">What a worker gathers in.</param>
    /// <param name="step">Does one piece; given what its worker gathers in, and how to hand on what it finds.</param>
    /// <param name="cancellation">Ends the work.</param>
    /// <returns>What each worker gathered.</returns>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public static async Task<IReadOnlyList<TGathered>> RunAsync<TWork, TGathered>(TWork first, int workers, Func<TGathered> gather,
        Action<TWork, TGathered, Action<TWork>> step, CancellationToken cancellation)
    {
        var open = new Stack<TWork>([first]);
        // What is there to be taken; and at the end, once for each worker that waits.
        using var available = new SemaphoreSlim(1);
        var left = 1;
        ExceptionDispatchInfo? failure = null;
        void Add(TWork work)
        {
            Interlocked.Increment(ref left);
            lock (open)
                open.Push(work);
            available.Release();
        }
        async Task Work(TGathered gathered)
        {
            while (true)
            {
                await available.WaitAsync(CancellationToken.None).ConfigureAwait(false);
                TWork? work;
                lock (open)
                {
                    if (Volatile.Read(ref failure) is not null || !open.TryPop(out work))
                        return;
                }
                try
                {
                    cancellation.ThrowIfCancellationRequested();
                    step(work, gathered, Add);
                }
                catch (Exception problem)
                {
                    Interlocked.CompareExchange(ref failure, ExceptionDispatchInfo.Capture(problem), null);
                }
                if (Interlocked.Decrement(ref left) == 0 || failure is not null)
                    available.Release(workers);
            }
        }
        var all = Enumerable.Range(0, workers).Select(_ => gather()).ToList();
        await Task.WhenAll(all.Select(gathered => Task.Run(() => Work(gathered), CancellationToken.None))).ConfigureAwait(false);
        failure?.Throw();
        return all;
    }
}

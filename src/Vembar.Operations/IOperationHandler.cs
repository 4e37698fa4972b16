namespace Vembar.Operations;

/// <summary>Does one kind of work. A handler keeps nothing of what it did; several may work at once in one process.</summary>
/// <typeparam name="TRequest">What is to be done.</typeparam>
/// <typeparam name="TResult">What was done or found.</typeparam>
public interface IOperationHandler<in TRequest, TResult>
{
    /// <summary>Does the work. All that it began has ended when the task has.</summary>
    /// <param name="request">What is to be done.</param>
    /// <param name="progress">Told how far it is; by any thread.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="Common.VembarException">Something is in the way.</exception>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    Task<TResult> HandleAsync(TRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation);
}

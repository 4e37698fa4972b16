using Vembar.Common;

namespace Vembar.Operations.Builds;

/// <summary>Runs a recipe: from a reference to an image in its archive, checked, signed, in its channel and at its sites.</summary>
public sealed class BuildHandler(OperationHost host) : IOperationHandler<BuildRequest, BuildResult>
{
    /// <summary>Runs it.</summary>
    /// <exception cref="VembarException">The recipe is not right, or another build of it runs. What fails later is in the
    /// result.</exception>
    /// <exception cref="OperationCanceledException">It was ended; the run can be gone on with.</exception>
    public async Task<BuildResult> HandleAsync(BuildRequest request, IProgress<OperationProgress> progress, CancellationToken cancellation)
    {
        var recipe = request.Read(null);
        if (request.PlanOnly)
            return new BuildPlan(host, request, recipe).Show();
        var folder = Path.Combine(Path.GetFullPath(request.Builds), recipe.Name);
        try
        {
            Directory.CreateDirectory(folder);
            using var hold = BuildLock.Take(folder);
            var plan = new BuildPlan(host, request, recipe);
            (BuildRun Run, BuildState State)? resumed = request.Resume is { } named ? Resumed(request, recipe, named) : null;
            plan.Choose(resumed?.State);
            plan.Check(resumed is not null);
            var run = resumed?.Run ?? BuildRun.Begin(request.Builds, recipe.Name, host.Today);
            return await new BuildExecution(host, request, plan, run, resumed?.State).RunAsync(progress,
                cancellation).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException
            && VembarException.From(failure, "keep the run in", folder) is { } error)
        {
            throw error;
        }
    }

    private static (BuildRun Run, BuildState State) Resumed(BuildRequest request, Recipe recipe, string named)
    {
        var run = BuildRun.Find(request.Builds, named.Contains('/', StringComparison.Ordinal) ? named : $"{recipe.Name}/{named}");
        var state = run.Read();
        if (state is null || state.Name != recipe.Name)
            throw VembarException.Input("no-such-run", $"'{named}' is no run of '{recipe.Name}'", Advice.Of("list-runs"));
        if (state.Outcome == BuildOutcome.Done)
            throw VembarException.Input("run-done", $"the run {state.Run} of '{recipe.Name}' is done: there is nothing to go on with",
                "Begin a new one.");
        return (run, state);
    }
}

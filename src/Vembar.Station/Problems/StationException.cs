using Vembar.Operations.Stations.Contract;

namespace Vembar.Station.Problems;

/// <summary>A request that is answered with a problem.</summary>
/// <param name="problem">What is wrong.</param>
public sealed class StationException(Problem problem) : Exception(problem.Title)
{
    /// <summary>What is wrong.</summary>
    public Problem Problem { get; } = problem;

    /// <summary>A problem with its status.</summary>
    public static StationException Of(int status, string code, string title, string hint = "", IReadOnlyList<string>? details = null) =>
        new(new Problem { Status = status, Code = code, Title = title, Hint = hint, Details = details ?? [] });

    /// <summary>There is no such thing.</summary>
    public static StationException NotFound(string code, string title, string hint = "") => Of(404, code, title, hint);

    /// <summary>It cannot be done as things are.</summary>
    public static StationException Conflict(string code, string title, string hint = "", IReadOnlyList<string>? details = null) =>
        Of(409, code, title, hint, details);

    /// <summary>The request makes no sense.</summary>
    public static StationException Bad(string code, string title, string hint = "") => Of(400, code, title, hint);
}

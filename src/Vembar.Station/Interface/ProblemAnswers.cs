using System.Data.Common;
using System.Text.Json;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Problems;

namespace Vembar.Station.Interface;

/// <summary>Answers with what went wrong, as RFC 9457 has it.</summary>
public static partial class ProblemAnswers
{
    /// <summary>Turns what is thrown into answers.</summary>
    public static async Task HandleAsync(HttpContext context, RequestDelegate next)
    {
        var log = context.RequestServices.GetRequiredService<ILoggerFactory>().CreateLogger("Vembar.Station.Requests");
        try
        {
            await next(context).ConfigureAwait(false);
            // Nothing is there, or not for this method.
            if (!context.Response.HasStarted && context.Response.StatusCode is 404 or 405 or 415 && context.Response.ContentType is null)
                await WriteAsync(context, new Problem
                {
                    Status = context.Response.StatusCode,
                    Code = context.Response.StatusCode switch { 404 => "no-such-address", 405 => "wrong-method", _ => "wrong-type" },
                    Title = $"there is nothing for {context.Request.Method} {context.Request.Path}",
                }).ConfigureAwait(false);
        }
        catch (Exception) when (context.RequestAborted.IsCancellationRequested)
        {
            context.Abort();
        }
        catch (Exception failure) when (!context.Response.HasStarted)
        {
            var problem = Of(failure);
            if (problem.Status >= 500)
                Failed(log, failure, context.Request.Method, context.Request.Path, problem.Code);
            await WriteAsync(context, problem).ConfigureAwait(false);
        }
        catch (Exception failure)
        {
            // The answer was begun: its reader sees that it was cut off.
            Failed(log, failure, context.Request.Method, context.Request.Path, "cut-off");
            context.Abort();
        }
    }

    [LoggerMessage(1, LogLevel.Warning, "{Method} {Path} failed: {Code}")]
    private static partial void Failed(ILogger log, Exception failure, string method, string path, string code);

    private static Problem Of(Exception failure) => failure switch
    {
        StationException own => own.Problem,
        BadHttpRequestException bad => new Problem
        {
            Status = bad.StatusCode,
            Code = bad.StatusCode == StatusCodes.Status413PayloadTooLarge ? "too-large" : "bad-request",
            Title = bad.StatusCode == StatusCodes.Status413PayloadTooLarge ? "the request is larger than the station takes"
                : $"the request makes no sense{(bad.InnerException is JsonException json ? $": {json.Message}" : "")}",
        },
        VembarException problem => new Problem
        {
            Status = problem.Kind switch { ErrorKind.Usage => 400, ErrorKind.Input => 409, _ => 503 },
            Code = problem.Code,
            Title = problem.Message,
            Hint = problem.Hint,
            Details = problem.Details,
        },
        DbException => new Problem
        {
            Status = 503,
            Code = "database-away",
            Title = "the station's database cannot be reached now",
            Hint = "Try again in a moment.",
        },
        _ => new Problem { Status = 500, Code = "mistake", Title = "the station made a mistake; its log says more" },
    };

    /// <summary>Answers with a problem.</summary>
    public static Task WriteAsync(HttpContext context, Problem problem)
    {
        context.Response.StatusCode = problem.Status;
        if (problem.Status == 503)
            context.Response.Headers.RetryAfter = "2";
        return context.Response.WriteAsJsonAsync(problem, StationJson.Default.Problem, Problem.MediaType, context.RequestAborted);
    }
}

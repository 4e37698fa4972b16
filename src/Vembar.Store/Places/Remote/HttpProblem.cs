using Vembar.Common;

namespace Vembar.Store.Places.Remote;

/// <summary>What a server says went wrong (RFC 9457), with what stations add to it: a code, a hint, further lines.</summary>
internal sealed record HttpProblem
{
    public const string MediaType = "application/problem+json";
    private const int LongestLine = 2000, MostLines = 200;

    public string? Title { get; init; }

    public string? Detail { get; init; }

    public string? Code { get; init; }

    public string? Hint { get; init; }

    public IReadOnlyList<string>? Details { get; init; }

    /// <summary>The error that it stands for; null where it says nothing.</summary>
    /// <param name="status">The status of the answer.</param>
    public VembarException? ToError(int status)
    {
        if ((Title ?? Detail) is not { Length: > 0 } title)
            return null;
        var kind = status switch
        {
            400 => ErrorKind.Usage,
            401 or 403 or 408 or 429 or >= 500 => ErrorKind.Environment,
            _ => ErrorKind.Input,
        };
        return new VembarException(kind, Cut(Code is { Length: > 0 } code ? code : "refused"), Cut(title), Cut(Hint ?? ""),
            [.. (Details ?? []).Take(MostLines).Select(Cut)]);
    }

    private static string Cut(string text) => text.Length <= LongestLine ? text : $"{text[..LongestLine]}…";
}

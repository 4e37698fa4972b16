using System.Net.Http.Headers;
using System.Text.Json;
using Vembar.Common;

namespace Vembar.Operations.Builds;

/// <summary>Tells a program or a web address how a run went.</summary>
internal static class Telling
{
    private static readonly TimeSpan s_limit = TimeSpan.FromMinutes(2);

    /// <summary>Tells it.</summary>
    /// <exception cref="VembarException">It was not heard.</exception>
    public static async Task TellAsync(RecipeTell tell, BuildState state, string folder, TimeProvider clock, CancellationToken cancellation)
    {
        var body = JsonSerializer.SerializeToUtf8Bytes(state, BuildJson.Default.BuildState);
        if (tell.Post is not { } address)
        {
            if (await Program(tell.Run, body, state, folder).RunAsync(s_limit, clock, cancellation).ConfigureAwait(false) is { } wrong)
                throw NotTold(tell, $"it {wrong}");
            return;
        }
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(s_limit);
        try
        {
            await PostAsync(address, body, limit.Token).ConfigureAwait(false);
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException
            || failure is OperationCanceledException && !cancellation.IsCancellationRequested)
        {
            throw NotTold(tell, failure is OperationCanceledException ? $"nothing came of it within {s_limit.TotalMinutes:0} min"
                : failure.Message);
        }
    }

    private static VembarException NotTold(RecipeTell tell, string why) =>
        VembarException.Environment("not-told", $"'{tell.What}' was not told: {why}");

    private static async Task PostAsync(string address, byte[] body, CancellationToken cancellation)
    {
        using var client = new HttpClient();
        using var content = new ByteArrayContent(body);
        content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
        using var answer = await client.PostAsync(new Uri(address), content, cancellation).ConfigureAwait(false);
        answer.EnsureSuccessStatusCode();
    }

    private static OwnProgram Program(IReadOnlyList<string> words, byte[] body, BuildState state, string folder) => new(words)
    {
        Folder = Path.GetDirectoryName(state.Recipe)!,
        Input = body,
        Environment = new Dictionary<string, string>
        {
            ["VEMBAR_BUILD_OUTCOME"] = state.Outcome.ToString().ToLowerInvariant(),
            ["VEMBAR_BUILD_FOLDER"] = folder,
            ["VEMBAR_BUILD_TITLE"] = state.Title,
            ["VEMBAR_BUILD_VERSION"] = state.Version,
        },
    };
}

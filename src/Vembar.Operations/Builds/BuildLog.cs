using System.Globalization;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Vembar.Operations.Builds;

/// <summary>The log of a run: lines of JSON, with time, step and text.</summary>
/// <param name="path">The file; it is added to.</param>
/// <param name="clock">Tells the time.</param>
internal sealed class BuildLog(string path, TimeProvider clock)
{
    private static readonly JsonSerializerOptions s_readable = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>Adds a line.</summary>
    public void Write(string step, string text) => File.AppendAllText(path, new JsonObject
    {
        ["time"] = clock.GetUtcNow().ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture),
        ["step"] = step,
        ["text"] = text,
    }.ToJsonString(s_readable) + "\n");
}

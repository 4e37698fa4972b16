using System.Text.Json;
using Vembar.Common.Files;

namespace Vembar.Operations.Sites;

/// <summary>Remembers when sites were compared last. What cannot be read or written is not remembered.</summary>
/// <param name="path">The file; null for nothing.</param>
internal sealed class SiteMemory(string? path)
{
    private readonly Lock _gate = new();

    private SortedDictionary<string, DateTime> Read()
    {
        try
        {
            return path is not null && File.Exists(path)
                ? JsonSerializer.Deserialize(File.ReadAllBytes(path), SiteJson.Default.SortedDictionaryStringDateTime) ?? [] : [];
        }
        catch (Exception failure) when (failure is JsonException or IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }

    /// <summary>When a place was compared last; null for never.</summary>
    public DateTime? Last(string place) => Read().TryGetValue(place, out var time) ? time : null;

    /// <summary>Remembers that places were compared.</summary>
    public void Remember(IEnumerable<string> places, DateTime now)
    {
        if (path is null)
            return;
        lock (_gate)
        {
            var times = Read();
            foreach (var place in places)
                times[place] = now;
            try
            {
                Directory.CreateDirectory(Path.GetDirectoryName(path)!);
                WholeFile.Write(path, JsonSerializer.SerializeToUtf8Bytes(times, SiteJson.Default.SortedDictionaryStringDateTime));
            }
            catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
            {
                // It is not remembered, then.
            }
        }
    }
}

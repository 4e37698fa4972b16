using System.Text.Json;
using Vembar.Common;

namespace Vembar.Operations.Starters;

/// <summary>A starter in a folder.</summary>
/// <param name="Folder">The folder.</param>
/// <param name="Manifest">What it says of itself.</param>
public sealed record Starter(string Folder, StarterManifest Manifest)
{
    private const int Longest = 4 << 20;

    /// <summary>Reads the starter in a folder.</summary>
    /// <exception cref="VembarException">There is none, or it is not whole.</exception>
    public static Starter Read(string folder)
    {
        var path = Path.Combine(folder, StarterManifest.FileName);
        try
        {
            if (!File.Exists(path) || new FileInfo(path).Length > Longest)
                throw VembarException.Input("no-starter", $"there is no starter in '{folder}'", Advice.Of("make-starter"));
            var manifest = JsonSerializer.Deserialize(File.ReadAllBytes(path), StarterJson.Default.StarterManifest);
            if (manifest is not { Format: 1, Files: not null, Modules: not null })
                throw VembarException.Input("bad-starter", $"'{path}' is of a form that is not known", "Make the starter anew.");
            var missing = manifest.Files.FirstOrDefault(f => f.Name != Path.GetFileName(f.Name)
                || !File.Exists(Path.Combine(folder, f.Name)) || new FileInfo(Path.Combine(folder, f.Name)).Length != f.Bytes);
            return missing is null ? new Starter(folder, manifest)
                : throw VembarException.Damaged(
                $"the starter in '{folder}' is not whole: '{missing.Name}' is missing or has another length",
                Advice.Of("make-starter"));
        }
        catch (JsonException)
        {
            throw VembarException.Input("bad-starter", $"'{path}' is not what a starter says of itself", "Make the starter anew.");
        }
        catch (Exception failure) when (VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <summary>The starters in a folder, or below it; by name and version.</summary>
    /// <exception cref="VembarException">The folder cannot be read, or one of them is not whole.</exception>
    public static IReadOnlyList<Starter> All(string folder)
    {
        try
        {
            return [.. Directory.EnumerateDirectories(folder).Append(folder)
                .Where(f => File.Exists(Path.Combine(f, StarterManifest.FileName))).Select(Read)
                .OrderBy(s => s.Manifest.Name, StringComparer.OrdinalIgnoreCase).ThenBy(s => s.Manifest.Version, StringComparer.Ordinal)];
        }
        catch (Exception failure) when (VembarException.From(failure, "read", folder) is { } error)
        {
            throw error;
        }
    }
}

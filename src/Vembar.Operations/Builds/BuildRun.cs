using System.Globalization;
using System.Text.Json;
using Vembar.Common;
using Vembar.Common.Files;

namespace Vembar.Operations.Builds;

/// <summary>The folder of a run: run.json, recipe.yaml as it was filled in, log.jsonl, page.html, and what is needed while it goes
/// on.</summary>
/// <param name="Folder">The folder.</param>
public sealed record BuildRun(string Folder)
{
    private const string StateFile = "run.json";

    /// <summary>What is kept for the next run of a recipe.</summary>
    /// <param name="folder">The folder of its runs.</param>
    public static string KeptIn(string folder) => Path.Combine(folder, "kept.vmb");

    /// <summary>Takes away what is kept for the next run of a recipe.</summary>
    /// <param name="folder">The folder of its runs.</param>
    /// <returns>How many bytes that gave back.</returns>
    public static long RemoveKept(string folder) => Remove(KeptIn(folder));

    private static long Remove(string path)
    {
        var file = new FileInfo(path);
        if (!file.Exists)
            return 0;
        var bytes = file.Length;
        file.Delete();
        return bytes;
    }

    /// <summary>Which run.</summary>
    public string Name => Path.GetFileName(Folder);

    /// <summary>The archive in which it works.</summary>
    public string Archive => At("work.vmb");

    /// <summary>The copy of the disk.</summary>
    public string Overlay => At("copy.qcow2");

    /// <summary>A file of it.</summary>
    public string At(string name) => Path.Combine(Folder, name);

    /// <summary>Reads how far it is; null where nothing says so.</summary>
    public BuildState? Read()
    {
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(At(StateFile)), BuildJson.Default.BuildState);
        }
        catch (Exception none) when (none is IOException or JsonException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>Keeps how far it is.</summary>
    public void Write(BuildState state) =>
        WholeFile.Write(At(StateFile), JsonSerializer.SerializeToUtf8Bytes(state, BuildJson.Default.BuildState));

    /// <summary>Takes away what is needed only while it goes on, or to go on.</summary>
    /// <returns>How many bytes that gave back.</returns>
    public long RemoveArtifacts() =>
        ((string[])[Archive, Overlay, At("machine/files.img"), At("machine/variables.fd")]).Sum(Remove);

    /// <summary>The runs of a recipe, the newest first.</summary>
    /// <param name="builds">The folder of all builds.</param>
    /// <param name="name">The recipe's name.</param>
    public static IReadOnlyList<BuildRun> Of(string builds, string name) =>
        !Directory.Exists(Path.Combine(builds, name)) ? []
        : [.. Directory.EnumerateDirectories(Path.Combine(builds, name)).Select(f => new BuildRun(f)).Where(r => OrderOf(r.Name)
            is not null)
            .OrderByDescending(r => OrderOf(r.Name))];

    /// <summary>The names of the recipes that have runs.</summary>
    public static IReadOnlyList<string> Names(string builds) => !Directory.Exists(builds) ? []
        : [.. Directory.EnumerateDirectories(builds).Select(f => Path.GetFileName(f)!).Order(StringComparer.Ordinal)];

    /// <summary>Finds a run by what somebody calls it: its name, with or without its recipe's ("reading-room/2026-11-27.1").</summary>
    /// <exception cref="VembarException">There is none, or there are several.</exception>
    public static BuildRun Find(string builds, string text)
    {
        var found = Names(builds).SelectMany(n => Of(builds, n).Where(r => text == r.Name || text == $"{n}/{r.Name}"
            || Path.GetFullPath(text) == r.Folder)).ToList();
        return found.Count switch
        {
            1 => found[0],
            0 => throw VembarException.Input("no-such-run", $"there is no run '{text}' in '{builds}'", Advice.Of("list-runs")),
            _ => throw VembarException.Input("no-such-run", $"several recipes have a run '{text}'",
                $"Say which: {string.Join(", ", found.Select(r => $"{Path.GetFileName(Path.GetDirectoryName(r.Folder))}/{r.Name}"))}."),
        };
    }

    /// <summary>Makes the folder of a new run.</summary>
    public static BuildRun Begin(string builds, string name, DateOnly day)
    {
        var today = day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        var number = Of(builds, name).Where(r => r.Name.StartsWith($"{today}.", StringComparison.Ordinal))
            .Select(r => OrderOf(r.Name)!.Value.Number).Append(0).Max() + 1;
        var run = new BuildRun(Path.Combine(builds, name, string.Create(CultureInfo.InvariantCulture, $"{today}.{number}")));
        Directory.CreateDirectory(run.Folder);
        return run;
    }

    private static (DateOnly Day, int Number)? OrderOf(string name) => name.Split('.') is [var day, var number]
        && DateOnly.TryParseExact(day, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date)
        && int.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var which) ? (date, which) : null;
}

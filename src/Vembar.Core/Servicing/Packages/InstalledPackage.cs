using System.Text.Json;
using System.Text.Json.Serialization;
using Vembar.Core.Content;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Packages;

/// <summary>A step that was made, and how it is taken back.</summary>
internal sealed record JournalStep
{
    /// <summary>folder (made), added, replaced, removed, registry or first-start.</summary>
    public required string Kind { get; init; }

    /// <summary>The path; a command's name.</summary>
    public string Path { get; init; } = "";

    /// <summary>Where what was there before is kept, below the package's record.</summary>
    public string Saved { get; init; } = "";

    /// <summary>What the registry gets back, in order.</summary>
    public IReadOnlyList<RegistryEdit> Undo { get; init; } = [];
}

/// <summary>A hive as it was before, as the archive holds it.</summary>
internal sealed record StoredHive(string Hive, long Length, ChunkId Hash, ChunkId List, IReadOnlyList<StoredPart>? Parts, long? Time, byte TimeRest)
{
    public static StoredHive Of(string hive, FileContent content, FileTime? modified) =>
        new(hive, content.Length, content.Hash, content.List, content.Parts?.Select(p => new StoredPart(p.IsHole, p.IsHole ? default : p.Id, p.Length)).ToList(), modified?.Ticks, modified?.Rest ?? 0);

    public FileContent Content => Parts is null ? new FileContent(Length, Hash, List) : new FileContent(Length, Hash, [.. Parts.Select(p => new ContentPart(p.Hole ? default : p.Id, p.Length))]);

    public FileTime? Modified => Time is { } ticks ? new FileTime(ticks, TimeRest) : null;
}

/// <summary>A piece of such content.</summary>
internal sealed record StoredPart(bool Hole, ChunkId Id, long Length);

/// <summary>What a package did to an image.</summary>
internal sealed record PackageState
{
    /// <summary>What it changed itself.</summary>
    public IReadOnlyList<JournalStep> Steps { get; init; } = [];

    /// <summary>What its features changed that are on, by their names.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<JournalStep>> Features { get; init; } = new Dictionary<string, IReadOnlyList<JournalStep>>();

    /// <summary>Packages whose place it took ("shelfmark 7.3").</summary>
    public IReadOnlyList<string> Replaced { get; init; } = [];

    /// <summary>Hives as they were before.</summary>
    public IReadOnlyList<StoredHive> Hives { get; init; } = [];
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true, UseStringEnumConverter = true)]
[JsonSerializable(typeof(PackageState))]
internal sealed partial class PackageJson : JsonSerializerContext;

/// <summary>A package that an image holds.</summary>
public sealed class InstalledPackage
{
    /// <summary>Below the Windows folder: a folder for each package and version.</summary>
    internal const string RecordsPath = "Vembar/Packages";

    private const string StateFile = "installed.json";
    private const long LongestRecord = 256L << 20;

    private InstalledPackage(PackageManifest manifest, PackageState state, WindowsPath record)
    {
        Manifest = manifest;
        State = state;
        Record = record;
    }

    /// <summary>Its manifest.</summary>
    public PackageManifest Manifest { get; }

    /// <summary>"name version".</summary>
    public string Title => $"{Manifest.Name} {PackageManifest.Show(Manifest.Version)}";

    /// <summary>The package that took its place; null while it is the one in use.</summary>
    public string? ReplacedBy { get; private set; }

    /// <summary>Its features and whether they are on.</summary>
    public IReadOnlyList<(PackageFeature Feature, bool IsOn)> Features => [.. Manifest.Features.Select(f => (f, State.Features.ContainsKey(f.Name)))];

    internal PackageState State { get; set; }

    internal WindowsPath Record { get; }

    internal static WindowsPath RecordOf(WindowsPath windows, PackageManifest manifest) => windows.Append(WindowsPath.Parse($"{RecordsPath}/{manifest.Name}/{manifest.Version}"));

    internal static InstalledPackage New(WindowsPath windows, PackageManifest manifest) => new(manifest, new PackageState(), RecordOf(windows, manifest));

    /// <summary>The packages of an image, by name and version.</summary>
    /// <param name="files">The image.</param>
    /// <param name="windows">Its Windows folder.</param>
    /// <exception cref="VembarException">A record is damaged.</exception>
    public static IReadOnlyList<InstalledPackage> Read(IFileView files, WindowsPath windows)
    {
        var all = new List<InstalledPackage>();
        var root = windows.Append(WindowsPath.Parse(RecordsPath));
        foreach (var name in files.Names(root).Order(StringComparer.OrdinalIgnoreCase))
        {
            foreach (var version in files.Names(root.Child(name)))
            {
                var record = root.Child(name).Child(version);
                if (files.ReadFile(record.Child(PackageManifest.FileName), LongestRecord) is not { } manifest || files.ReadFile(record.Child(StateFile), LongestRecord) is not { } state)
                    continue;
                try
                {
                    all.Add(new InstalledPackage(PackageManifest.Parse(System.Text.Encoding.UTF8.GetString(manifest), $"{files.Shown}: {record}"), JsonSerializer.Deserialize(state, PackageJson.Default.PackageState) ?? new PackageState(), record));
                }
                catch (JsonException problem)
                {
                    throw VembarException.Input("bad-package-record", $"{files.Shown}: '{record.Child(StateFile)}' is damaged: {problem.Message}", "Take the image from before that package was installed.");
                }
            }
        }
        foreach (var package in all)
            package.ReplacedBy = all.Find(p => p.State.Replaced.Contains(package.Title, StringComparer.OrdinalIgnoreCase))?.Title;
        return [.. all.OrderBy(p => p.Manifest.Name, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.Manifest.Version)];
    }

    internal void Save(TreeEditor tree)
    {
        var bytes = JsonSerializer.SerializeToUtf8Bytes(State, PackageJson.Default.PackageState);
        tree.PutFile(Record.Child(StateFile), new NewContent(bytes, null, bytes.Length));
    }
}

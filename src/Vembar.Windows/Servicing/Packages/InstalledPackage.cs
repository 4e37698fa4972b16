using System.Text.Json;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Windows.Servicing.Packages;

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
    public IReadOnlyList<(PackageFeature Feature, bool IsOn)> Features =>
        [.. Manifest.Features.Select(f => (f, State.Features.ContainsKey(f.Name)))];

    internal PackageState State { get; set; }

    internal WindowsPath Record { get; }

    internal static WindowsPath RecordOf(WindowsPath windows, PackageManifest manifest) =>
        windows.Append(WindowsPath.Parse($"{RecordsPath}/{manifest.Name}/{manifest.Version}"));

    internal static InstalledPackage New(WindowsPath windows, PackageManifest manifest) =>
        new(manifest, new PackageState(), RecordOf(windows, manifest));

    /// <summary>The packages of an image, by name and version.</summary>
    /// <param name="files">The image.</param>
    /// <param name="windows">Its Windows folder.</param>
    /// <exception cref="VembarException">A record is damaged.</exception>
    public static IReadOnlyList<InstalledPackage> Read(IReadOnlyTree files, WindowsPath windows)
    {
        var all = new List<InstalledPackage>();
        var root = windows.Append(WindowsPath.Parse(RecordsPath));
        foreach (var name in files.Names(root).Order(StringComparer.OrdinalIgnoreCase))
        {
            foreach (var version in files.Names(root.Child(name)))
            {
                var record = root.Child(name).Child(version);
                if (files.ReadFile(record.Child(PackageManifest.FileName), LongestRecord) is not { } manifest
                    || files.ReadFile(record.Child(StateFile), LongestRecord) is not { } state)
                    continue;
                try
                {
                    all.Add(new InstalledPackage(PackageManifest.Parse(System.Text.Encoding.UTF8.GetString(manifest),
                        $"{files.DisplayName}: {record}"),
                        JsonSerializer.Deserialize(state, PackageJson.Default.PackageState) ?? new PackageState(), record));
                }
                catch (JsonException problem)
                {
                    throw VembarException.Input("bad-package-record",
                        $"{files.DisplayName}: '{record.Child(StateFile)}' is damaged: {problem.Message}",
                        "Take the image from before that package was installed.");
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

using System.Globalization;
using System.IO.Compression;
using System.Text;
using Vembar.Common;
using Vembar.Store.Hashing;
using Vembar.Windows.Servicing.Folders;
using Vembar.Windows.Servicing.Registry;

namespace Vembar.Windows.Servicing.Packages;

/// <summary>A package: its manifest and where its files are.</summary>
public sealed class Package
{
    private const int LongestManifest = 16 << 20, MostFiles = 190_000;
    private const string Records = "Windows/Vembar/";

    private Package(PackageManifest manifest, IPackageFolder folder, string displayName, string text)
    {
        Manifest = manifest;
        Folder = folder;
        DisplayName = displayName;
        Text = text;
    }

    /// <summary>The manifest.</summary>
    public PackageManifest Manifest { get; }

    /// <summary>Where its files are.</summary>
    public IPackageFolder Folder { get; }

    /// <summary>What it is, for messages.</summary>
    public string DisplayName { get; }

    /// <summary>The manifest's text.</summary>
    public string Text { get; }

    /// <summary>Reads a package: a folder, or a packed file.</summary>
    /// <param name="path">The folder or file.</param>
    /// <param name="cancellation">Ends unpacking, now and later.</param>
    /// <exception cref="VembarException">It is not a package; all mistakes in its manifest are told.</exception>
    public static Package Read(string path, CancellationToken cancellation = default)
    {
        IPackageFolder folder = Directory.Exists(path) ? new DiskPackageFolder(path)
            : File.Exists(path) ? new PackedFolder(PackedFile.Open(path, cancellation), "")
            : throw VembarException.Input("no-such-package", $"there is no package '{path}'",
            "Name a folder or a zip file that holds a package.yaml.");
        if (folder.Length(PackageManifest.FileName) is null)
            throw VembarException.Input("no-such-package", $"'{path}' holds no {PackageManifest.FileName}",
                "Name a folder or a zip file that holds one at its top.");
        return Read(folder, path);
    }

    /// <summary>Reads a package from a folder that holds its manifest.</summary>
    public static Package Read(IPackageFolder folder, string displayName)
    {
        var text = Encoding.UTF8.GetString(folder.Read(PackageManifest.FileName, LongestManifest)).TrimStart('\uFEFF');
        return new Package(PackageManifest.Parse(text, $"{displayName}/{PackageManifest.FileName}"), folder, displayName, text);
    }

    /// <summary>All its parts: its own, and those of its features.</summary>
    public IEnumerable<PackagePart> Parts => Manifest.Features.Select(f => f.Part).Prepend(Manifest.Part);

    /// <summary>Whatever is wrong with its payload: missing, changed, named and not listed; nothing when it is whole.</summary>
    /// <param name="currentSet">The control set that its .reg files are checked with.</param>
    public IReadOnlyList<Notice> Problems(string currentSet = "ControlSet001")
    {
        var problems = new List<Notice>();
        if (Manifest.Hashes.Count == 0 && Parts.Any(p => p.Files.Count + p.Registry.Count > 0))
            return [new Notice($"'{DisplayName}' lists no hashes of its files", Advice.Of("package-make"))];
        foreach (var (file, hash) in Manifest.Hashes)
        {
            if (Folder.Length(file) is null)
                problems.Add($"'{file}' is missing");
            else if (HashOf(Folder, file) != hash)
                problems.Add($"'{file}' is not what the manifest says; it was changed");
        }
        foreach (var part in Parts)
        {
            problems.AddRange(part.Files.Where(f => !Manifest.Laid([new PackagePart
            {
                Files = [f],
            }]).Any()).Select(f => new Notice($"'{f.From}' is not among the package's files")));
            foreach (var reg in part.Registry)
            {
                if (!Manifest.Hashes.ContainsKey(reg))
                    problems.Add($"'{reg}' is not among the package's files");
                else if (Folder.Length(reg) is not null)
                {
                    try
                    {
                        RegFile.Parse(Folder.Read(reg, RegFile.Longest), reg, currentSet);
                    }
                    catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
                    {
                        problems.Add(problem.Message);
                        problems.AddRange(problem.Details.Select(d => new Notice(d)));
                    }
                }
            }
        }
        problems.AddRange(PlaceProblems().Select(p => new Notice(p)));
        var twice = Manifest.Laid(Parts).GroupBy(l => l.To, StringComparer.OrdinalIgnoreCase)
            .FirstOrDefault(g => g.Select(l => l.Hash).Distinct().Count() > 1);
        if (twice is not null)
            problems.Add($"'{twice.Key}' is laid down twice, from {string.Join(" and ", twice.Select(t => t.From))}");
        return problems;
    }

    // Places in the image that no file can have, whatever the image holds.
    private IEnumerable<string> PlaceProblems()
    {
        var places = Manifest.Laid(Parts).Select(l => l.To).ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (places.Count > MostFiles)
            yield return $"it lays down {places.Count} files; {MostFiles} are possible";
        foreach (var place in places)
        {
            if (place.StartsWith(Records, StringComparison.OrdinalIgnoreCase))
                yield return $"'{place}' is where the journals of packages are";
            for (var end = place.LastIndexOf('/'); end > 0; end = place.LastIndexOf('/', end - 1))
            {
                if (places.Contains(place[..end]))
                    yield return $"'{place[..end]}' would be a file, and the folder of '{place}'";
            }
        }
    }

    private static ChunkId HashOf(IPackageFolder folder, string file)
    {
        using var stream = folder.Open(file);
        var hash = new Blake3();
        var buffer = new byte[1 << 18];
        for (int got; (got = stream.Read(buffer)) > 0;)
            hash.Append(buffer.AsSpan(0, got));
        return hash.Finish();
    }

    private static bool IsPackage(string zip, string name)
    {
        try
        {
            return Read(zip).Manifest is { Hashes.Count: > 0 } manifest && manifest.Name == name;
        }
        catch (VembarException)
        {
            return false;
        }
    }

    /// <summary>Makes a package of a folder: writes the hashes of its files into the manifest, and all into a zip file.</summary>
    /// <param name="folder">A folder with a package.yaml.</param>
    /// <param name="zip">The file to write; it takes the place of a package of this name that is there.</param>
    /// <param name="overwrite">Whether it may take the place of anything else.</param>
    /// <returns>The package.</returns>
    /// <exception cref="VembarException">The manifest or a file of the package is not right; all mistakes are told.</exception>
    public static Package Make(string folder, string zip, bool overwrite = false)
    {
        const string Hashes = "hashes:";
        var draft = Read(folder);
        var replaces = Path.Exists(zip);
        if (replaces && !overwrite && !IsPackage(zip, draft.Manifest.Name))
            throw VembarException.Input("output-exists", $"'{zip}' is there already, and is no package '{draft.Manifest.Name}'",
                Advice.Of("output-exists"));
        var source = Path.GetFullPath(folder);
        var target = Path.GetFullPath(zip);
        var files = Directory.EnumerateFiles(source, "*", SearchOption.AllDirectories).Where(f => Path.GetFullPath(f) != target)
            .Select(f => Path.GetRelativePath(source, f)).Where(f => f != PackageManifest.FileName).Order(StringComparer.Ordinal).ToList();
        if (files.Find(f => !PackageManifest.IsInside(f)) is { } bad)
            throw VembarException.Input("bad-package", $"'{bad}' in '{folder}' is not a name that Windows can open", "Rename it.");
        // What stood there as hashes before is written anew.
        var lines = draft.Text.ReplaceLineEndings("\n").Split('\n').ToList();
        var at = lines.FindIndex(l => l.TrimEnd() == Hashes || l.StartsWith(Hashes + " ", StringComparison.Ordinal));
        if (at >= 0)
        {
            var end = lines.FindIndex(at + 1, l => l.Length > 0 && l[0] is not (' ' or '#' or '\t'));
            lines.RemoveRange(at, (end < 0 ? lines.Count : end) - at);
        }
        var text = new StringBuilder(string.Join('\n', lines).TrimEnd()).Append('\n').Append(Hashes)
            .Append(files.Count == 0 ? " {}\n" : "\n");
        foreach (var file in files)
            text.Append(CultureInfo.InvariantCulture,
                $"  '{file.Replace("'", "''", StringComparison.Ordinal)}': {HashOf(draft.Folder, file)}\n");
        var made = new Package(PackageManifest.Parse(text.ToString(), $"{folder}/{PackageManifest.FileName}"), draft.Folder, folder,
            text.ToString());
        if (made.Problems() is { Count: > 0 } problems)
            throw VembarException.Input("bad-package", $"'{folder}': {problems[0]}", "See docs/packages.md.",
                [.. problems.Skip(1).Select(p => p.Text)]);
        var beside = Path.Combine(Path.GetDirectoryName(target)!, $".{Path.GetFileName(target)}.{Guid.NewGuid():N}");
        try
        {
            using (var archive = ZipFile.Open(beside, ZipArchiveMode.Create))
            {
                ChunkId Entry(string name, Stream from)
                {
                    var entry = archive.CreateEntry(name);
                    // The same files make the same package, whenever it is made.
                    entry.LastWriteTime = new DateTimeOffset(1980, 1, 1, 0, 0, 0, TimeSpan.Zero);
                    using var to = entry.Open();
                    var hash = new Blake3();
                    var buffer = new byte[1 << 18];
                    for (int got; (got = from.Read(buffer)) > 0;)
                    {
                        hash.Append(buffer.AsSpan(0, got));
                        to.Write(buffer, 0, got);
                    }
                    return hash.Finish();
                }
                Entry(PackageManifest.FileName, new MemoryStream(Encoding.UTF8.GetBytes(text.ToString())));
                foreach (var file in files)
                {
                    using var stream = draft.Folder.Open(file);
                    if (Entry(file, stream) != made.Manifest.Hashes[file])
                        throw VembarException.Input("file-changed", $"'{file}' in '{folder}' was changed while the package was made",
                            "Make it again when nobody writes there.");
                }
            }
            // What cannot be read again is no package.
            Read(beside);
            Native.Posix.Rename(beside, target, replaces);
        }
        catch (Exception failure)
        {
            File.Delete(beside);
            if (failure is not VembarException && VembarException.From(failure, "write", zip) is { } error)
                throw error;
            throw;
        }
        return made;
    }
}

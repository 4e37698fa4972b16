using System.IO.Compression;
using Vembar.Core.Trees;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>The folder that holds a driver package: on this machine, in a zip file, or in an image. Names compare without case.</summary>
public interface IPackageFolder
{
    /// <summary>What it is, for messages.</summary>
    string Shown { get; }

    /// <summary>The length of a file in bytes, or null when there is none.</summary>
    /// <param name="file">Its path below the folder, with '/'.</param>
    long? Length(string file);

    /// <summary>A file's content to read, from the start.</summary>
    /// <exception cref="VembarException">There is no such file, or it cannot be read.</exception>
    Stream Open(string file);

    /// <summary>What an image stores for a file.</summary>
    /// <exception cref="VembarException">There is no such file, or it cannot be read.</exception>
    NewContent Content(string file);
}

/// <summary>What packages' folders have in common.</summary>
public static class PackageFolders
{
    /// <summary>The largest file of a package that is read into memory, in bytes.</summary>
    public const long LargestFile = 1L << 30;

    /// <summary>All of a file.</summary>
    /// <param name="folder">The package's folder.</param>
    /// <param name="file">The file.</param>
    /// <param name="most">A longer one is an error.</param>
    /// <exception cref="VembarException">It is missing, too long or cannot be read.</exception>
    public static byte[] Read(this IPackageFolder folder, string file, long most = LargestFile)
    {
        using var stream = folder.Open(file);
        using var memory = new MemoryStream();
        var buffer = new byte[81920];
        for (int got; (got = stream.Read(buffer)) > 0;)
        {
            if (memory.Length + got > most)
                throw VembarException.Input("too-long", $"'{file}' in '{folder.Shown}' is longer than {most} bytes");
            memory.Write(buffer, 0, got);
        }
        return memory.ToArray();
    }

    internal static VembarException Missing(string shown, string file) => VembarException.Input("missing-file", $"'{file}' is missing in '{shown}'", "Take the driver package from its vendor again.");
}

/// <summary>A package's folder on this machine.</summary>
public sealed class DiskPackageFolder(string path) : IPackageFolder
{
    /// <inheritdoc/>
    public string Shown => path;

    /// <inheritdoc/>
    public long? Length(string file) => Locate(file) is { } at ? new FileInfo(at).Length : null;

    /// <inheritdoc/>
    public Stream Open(string file)
    {
        var at = Locate(file) ?? throw PackageFolders.Missing(Shown, file);
        try
        {
            return InputFile.OpenRead(at);
        }
        catch (Exception failure) when (VembarException.From(failure, "read", at) is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public NewContent Content(string file) => Locate(file) is { } at ? new NewContent(null, at, new FileInfo(at).Length) : throw PackageFolders.Missing(Shown, file);

    private string? Locate(string file)
    {
        var at = path;
        foreach (var part in file.Split('/'))
        {
            var exact = Path.Combine(at, part);
            var next = Path.Exists(exact) ? exact
                : Directory.Exists(at) ? Directory.EnumerateFileSystemEntries(at).FirstOrDefault(e => Path.GetFileName(e).Equals(part, StringComparison.OrdinalIgnoreCase)) : null;
            if (next is null)
                return null;
            at = next;
        }
        return File.Exists(at) ? at : null;
    }
}

/// <summary>A package's folder inside of a zip file. Lengths that the file claims are not believed.</summary>
public sealed class ZipPackageFolder : IPackageFolder
{
    private const int MostEntries = 200_000;
    private readonly string _zip;
    private readonly IReadOnlyDictionary<string, string> _names;

    /// <summary>A folder of a zip file.</summary>
    /// <param name="zip">The zip file.</param>
    /// <param name="folder">The folder in it, with '/', empty for its top.</param>
    /// <param name="names">The zip file's entries by their names, without case.</param>
    internal ZipPackageFolder(string zip, string folder, IReadOnlyDictionary<string, string> names)
    {
        _zip = zip;
        _names = names;
        Folder = folder;
    }

    internal string Folder { get; }

    /// <summary>The top of a zip file.</summary>
    /// <exception cref="VembarException">It is not one, or cannot be read.</exception>
    public static ZipPackageFolder Top(string zip) => new(zip, "", Names(zip));

    /// <summary>The entries of a zip file by their paths with '/', without case.</summary>
    internal static Dictionary<string, string> Names(string path)
    {
        try
        {
            using var zip = new ZipArchive(InputFile.OpenRead(path), ZipArchiveMode.Read);
            if (zip.Entries.Count > MostEntries)
                throw VembarException.Input("bad-zip", $"'{path}' holds more than {MostEntries} files", "Unpack what is needed of it.");
            var names = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
            foreach (var entry in zip.Entries)
                names.TryAdd(entry.FullName.Replace('\\', '/').TrimStart('/'), entry.FullName);
            return names;
        }
        catch (InvalidDataException problem)
        {
            throw VembarException.Input("bad-zip", $"'{path}' is not a zip file, or damaged: {problem.Message}", "Fetch the file again.");
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public string Shown => Folder.Length > 0 ? $"{_zip}/{Folder}" : _zip;

    /// <inheritdoc/>
    public long? Length(string file) => Use(file, entry => (long?)entry.Length);

    /// <inheritdoc/>
    public Stream Open(string file) => Use(file, entry =>
    {
        var bytes = new MemoryStream();
        using var from = entry.Open();
        var buffer = new byte[81920];
        for (int got; (got = from.Read(buffer)) > 0;)
        {
            if (bytes.Length + got > PackageFolders.LargestFile)
                throw VembarException.Input("too-long", $"'{file}' in '{Shown}' is longer than {PackageFolders.LargestFile} bytes");
            bytes.Write(buffer, 0, got);
        }
        bytes.Position = 0;
        return bytes;
    }) ?? throw PackageFolders.Missing(Shown, file);

    /// <inheritdoc/>
    public NewContent Content(string file)
    {
        var bytes = this.Read(file);
        return new NewContent(bytes, null, bytes.Length);
    }

    private T? Use<T>(string file, Func<ZipArchiveEntry, T> work)
    {
        if (!_names.TryGetValue(Folder.Length > 0 ? $"{Folder}/{file}" : file, out var name))
            return default;
        try
        {
            using var zip = new ZipArchive(InputFile.OpenRead(_zip), ZipArchiveMode.Read);
            return zip.GetEntry(name) is { } entry ? work(entry) : default;
        }
        catch (InvalidDataException problem)
        {
            throw VembarException.Input("bad-zip", $"'{_zip}' is damaged: {problem.Message}", "Fetch the file again.");
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", _zip) is { } error)
        {
            throw error;
        }
    }
}

/// <summary>A package's folder in the driver store of an image.</summary>
public sealed class StoredPackageFolder(TreeEditor files, WindowsPath folder) : IPackageFolder
{
    /// <inheritdoc/>
    public string Shown => folder.ToString();

    /// <inheritdoc/>
    public long? Length(string file) => files.Find(At(file))?.Entry is { Kind: EntryKind.File } entry ? entry.Length : null;

    /// <inheritdoc/>
    public Stream Open(string file) => new MemoryStream(files.ReadFile(At(file), PackageFolders.LargestFile) ?? throw PackageFolders.Missing(Shown, file));

    /// <inheritdoc/>
    public NewContent Content(string file)
    {
        var bytes = this.Read(file);
        return new NewContent(bytes, null, bytes.Length);
    }

    private WindowsPath At(string file) => file.Split('/').Aggregate(folder, (at, part) => at.Child(part));
}

/// <summary>An INF file that was found.</summary>
/// <param name="Folder">Where it lies.</param>
/// <param name="Name">Its file name.</param>
/// <param name="Shown">What it is, for messages.</param>
public sealed record FoundInf(IPackageFolder Folder, string Name, string Shown)
{
    /// <summary>The INF files below a folder, also those in zip files; or the one file, or the zip file, that is named.</summary>
    /// <param name="path">A folder, an .inf file or a .zip file.</param>
    /// <param name="problems">Gets what could not be looked into.</param>
    /// <exception cref="VembarException">There is no such folder, or no INF in it.</exception>
    public static IReadOnlyList<FoundInf> Find(string path, ICollection<string>? problems = null)
    {
        if (File.Exists(path))
        {
            if (path.EndsWith(".inf", StringComparison.OrdinalIgnoreCase))
                return [OnDisk(path)];
            if (!path.EndsWith(".zip", StringComparison.OrdinalIgnoreCase))
                throw VembarException.Input("not-an-inf", $"'{path}' is not an INF file", "Name an .inf file, a .zip file, or a folder that holds some.");
            return InZip(path) is { Count: > 0 } inside ? inside : throw VembarException.Input("no-inf", $"there is no INF file in '{path}'", "Name the folder or zip file that holds the driver's .inf file.");
        }
        if (!Directory.Exists(path))
            throw VembarException.Input("no-such-folder", $"there is no driver folder '{path}'", "Check the path.");
        var found = new List<FoundInf>();
        try
        {
            foreach (var file in Directory.EnumerateFiles(path, "*", new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = 0, IgnoreInaccessible = false }).Order(StringComparer.Ordinal))
            {
                if (file.EndsWith(".inf", StringComparison.OrdinalIgnoreCase))
                    found.Add(OnDisk(file));
                else if (file.EndsWith(".zip", StringComparison.OrdinalIgnoreCase))
                    found.AddRange(TryZip(file, problems));
            }
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "look for drivers in", path) is { } error)
        {
            throw error;
        }
        return found.Count > 0 ? found : throw VembarException.Input("no-inf", $"there is no INF file in '{path}' or below", "Unpack the vendor's driver package first; name the folder that holds its .inf file.");
    }

    private static FoundInf OnDisk(string file) => new(new DiskPackageFolder(Path.GetDirectoryName(Path.GetFullPath(file))!), Path.GetFileName(file), file);

    private static IReadOnlyList<FoundInf> TryZip(string file, ICollection<string>? problems)
    {
        try
        {
            return InZip(file);
        }
        catch (VembarException problem) when (problems is not null)
        {
            problems.Add(problem.Message);
            return [];
        }
    }

    private static List<FoundInf> InZip(string path)
    {
        var names = ZipPackageFolder.Names(path);
        return [.. names.Keys.Where(n => n.EndsWith(".inf", StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal).Select(n =>
        {
            var folder = n.LastIndexOf('/') is var end and > 0 ? n[..end] : "";
            return new FoundInf(new ZipPackageFolder(path, folder, names), n[(n.LastIndexOf('/') + 1)..], $"{path}/{n}");
        })];
    }
}

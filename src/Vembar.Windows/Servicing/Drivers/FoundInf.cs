using Vembar.Common;
using Vembar.Windows.Servicing.Folders;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>An INF file that was found.</summary>
/// <param name="Folder">Where it lies.</param>
/// <param name="Name">Its file name.</param>
/// <param name="DisplayName">What it is, for messages.</param>
public sealed record FoundInf(IPackageFolder Folder, string Name, string DisplayName)
{
    private const string Ending = ".inf";

    /// <summary>The INF files below a folder, also those in packed files; or the one file, or the packed file, that is named.</summary>
    /// <param name="path">A folder, an .inf file or a packed file.</param>
    /// <param name="problems">Gets what could not be looked into.</param>
    /// <param name="cancellation">Ends unpacking, now and later.</param>
    /// <exception cref="VembarException">There is no such folder, or no INF in it.</exception>
    public static IReadOnlyList<FoundInf> Find(string path, ICollection<string>? problems = null, CancellationToken cancellation = default)
    {
        if (File.Exists(path))
        {
            if (path.EndsWith(Ending, StringComparison.OrdinalIgnoreCase))
                return [OnDisk(path)];
            if (!PackedFile.IsNamed(path))
                throw VembarException.Input("not-an-inf", $"'{path}' is not an INF file",
                    $"Name an .inf file, a folder that holds some, or a packed file ({PackedFile.Kinds}).");
            return Packed(path, cancellation) is { Count: > 0 } inside ? inside
                : throw VembarException.Input("no-inf", $"there is no INF file in '{path}'",
                "Name the folder or packed file that holds the driver's .inf file.");
        }
        if (!Directory.Exists(path))
            throw VembarException.Input("no-such-folder", $"there is no driver folder '{path}'", "Check the path.");
        var found = new List<FoundInf>();
        var options = new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = 0, IgnoreInaccessible = false };
        try
        {
            foreach (var file in Directory.EnumerateFiles(path, "*", options).Order(StringComparer.Ordinal))
            {
                if (file.EndsWith(Ending, StringComparison.OrdinalIgnoreCase))
                    found.Add(OnDisk(file));
                else if (PackedFile.IsNamed(file))
                    found.AddRange(TryPacked(file, problems, cancellation));
            }
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "look for drivers in", path) is { } error)
        {
            throw error;
        }
        return found.Count > 0 ? found
            : throw VembarException.Input("no-inf", $"there is no INF file in '{path}' or below",
            "Unpack the vendor's driver package first; name the folder that holds its .inf file.");
    }

    private static FoundInf OnDisk(string file) =>
        new(new ExpandingFolder(new DiskPackageFolder(Path.GetDirectoryName(Path.GetFullPath(file))!)), Path.GetFileName(file), file);

    private static IReadOnlyList<FoundInf> TryPacked(string file, ICollection<string>? problems, CancellationToken cancellation)
    {
        try
        {
            return Packed(file, cancellation);
        }
        catch (VembarException problem) when (problems is not null)
        {
            problems.Add(problem.Message);
            return [];
        }
    }

    private static List<FoundInf> Packed(string path, CancellationToken cancellation)
    {
        var packed = PackedFile.Open(path, cancellation);
        return [.. packed.Files.Keys.Where(n => n.EndsWith(Ending, StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal)
            .Select(n =>
        {
            var folder = n.LastIndexOf('/') is var end and > 0 ? n[..end] : "";
            return new FoundInf(new ExpandingFolder(new PackedFolder(packed, folder)), n[(n.LastIndexOf('/') + 1)..], $"{path}/{n}");
        })];
    }
}

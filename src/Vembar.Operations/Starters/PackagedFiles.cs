using Vembar.Common;

namespace Vembar.Operations.Starters;

/// <summary>Files of packages that are unpacked, and programs among them.</summary>
internal static class PackagedFiles
{
    /// <summary>Where packages have their libraries.</summary>
    public static IReadOnlyList<string> LibraryFolders { get; } =
        ["lib/x86_64-linux-gnu", "usr/lib/x86_64-linux-gnu", "lib64", "usr/lib64", "lib", "usr/lib"];

    /// <summary>Those that a package has.</summary>
    public static IEnumerable<string> LibraryFoldersOf(string package) =>
        LibraryFolders.Select(f => Path.Combine(package, f)).Where(Directory.Exists);

    /// <summary>The first file that is there of some places; null for none.</summary>
    public static string? Find(IReadOnlyList<DebianPackage> packages, params ReadOnlySpan<string> places)
    {
        foreach (var package in packages)
        {
            foreach (var place in places)
            {
                if (package.FileAt(place) is { } path)
                    return path;
            }
        }
        return null;
    }

    /// <summary>A file that has to be there.</summary>
    /// <exception cref="VembarException">It is not.</exception>
    public static string Demand(IReadOnlyList<DebianPackage> packages, string why, params ReadOnlySpan<string> places) =>
        Find(packages, places) ?? throw Lacks(Path.GetFileName(places[0]), why);

    /// <summary>Said of a file that no package has.</summary>
    public static VembarException Lacks(string name, string why) => VembarException.Environment("library-missing",
        $"none of the packages has '{name}', and {why}", "Report it: the list of packages is too short for this system.");

    /// <summary>Runs a program of the packages with their libraries.</summary>
    /// <exception cref="VembarException">It failed.</exception>
    public static Task<string> RunAsync(IReadOnlyList<DebianPackage> packages, string program, IReadOnlyList<string> arguments,
        CancellationToken cancellation) => DebianPackages.RunAsync(program, arguments, cancellation, null, new Dictionary<string, string>
        {
            // Not the C library: it goes with its own loader.
            ["LD_LIBRARY_PATH"] = string.Join(':', packages.SelectMany(p => LibraryFoldersOf(p.Folder))
                .Where(l => !File.Exists(Path.Combine(l, "libc.so.6")))),
            // What they write has no time of today.
            ["SOURCE_DATE_EPOCH"] = "0",
        });
}

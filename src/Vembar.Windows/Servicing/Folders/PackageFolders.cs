using Vembar.Common;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>What packages' folders have in common.</summary>
public static class PackageFolders
{
    /// <summary>The largest file of a package that is read into memory, in bytes.</summary>
    public const long LargestFile = 1L << 30;

    /// <summary>All of a file.</summary>
    /// <param name="folder">The package's folder.</param>
    /// <param name="file">The file.</param>
    /// <param name="max">A longer one is an error.</param>
    /// <exception cref="VembarException">It is missing, too long or cannot be read.</exception>
    public static byte[] Read(this IPackageFolder folder, string file, long max = LargestFile)
    {
        using var stream = folder.Open(file);
        using var memory = new MemoryStream();
        var buffer = new byte[81920];
        for (int got; (got = stream.Read(buffer)) > 0;)
        {
            if (memory.Length + got > max)
                throw VembarException.Input("too-long", $"'{file}' in '{folder.DisplayName}' is longer than {max} bytes");
            memory.Write(buffer, 0, got);
        }
        return memory.ToArray();
    }

    internal static VembarException Missing(string displayName, string file) =>
        VembarException.Input("missing-file", $"'{file}' is missing in '{displayName}'", "Take the driver package from its vendor again.");
}

using System.Globalization;
using System.Text;
using Vembar.Common.Files;
using Vembar.Native;
using Vembar.Store.Hashing;

namespace Vembar.Operations.Builds;

/// <summary>Tells whether what a step depends on is as it was.</summary>
internal static class Fingerprint
{
    // What is longer is known by its size and times.
    private const long LongestRead = 4 << 20;

    /// <summary>The hash of texts.</summary>
    public static string Of(params IEnumerable<string> texts) =>
        Blake3.Hash(Encoding.UTF8.GetBytes(string.Join('\0', texts))).ToString();

    /// <summary>Of a file or a folder with all that is in it, by content where that is short.</summary>
    public static string OfFiles(string path) => OfPath(path, isRead: true);

    /// <summary>Of a disk or a folder that is captured, by sizes and times; null for a device, of which nothing tells whether it was
    /// written.</summary>
    public static string? OfSource(string path) => Posix.TryStat(null, PosixName.Encode(path), out var found, followLink: true)
        && found.Kind == PosixKind.Disk ? null : OfPath(path, isRead: false);

    private static string OfPath(string path, bool isRead)
    {
        if (File.Exists(path))
            return OfFile(new FileInfo(path), path, isRead);
        if (!Directory.Exists(path))
            return "none";
        var lines = new DirectoryInfo(path).EnumerateFileSystemInfos("*", new EnumerationOptions
        {
            RecurseSubdirectories = true,
            AttributesToSkip = FileAttributes.None,
            IgnoreInaccessible = true,
        }).Select(e => e is FileInfo { LinkTarget: null } file ? OfFile(file, Path.GetRelativePath(path, e.FullName), isRead)
            : $"{Path.GetRelativePath(path, e.FullName)} {e.LinkTarget}").ToList();
        lines.Sort(StringComparer.Ordinal);
        return Of(lines);
    }

    private static string OfFile(FileInfo file, string name, bool isRead) => string.Create(CultureInfo.InvariantCulture,
        $"{name} {file.Length} {(isRead && file.Length <= LongestRead ? Blake3.Hash(InputFile.ReadAllBytes(file.FullName)).ToString()
        : file.LastWriteTimeUtc.Ticks.ToString(CultureInfo.InvariantCulture))}");
}

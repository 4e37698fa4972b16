using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Native;

namespace Vembar.Windows.Servicing.Folders;

/// <summary>A file that holds files packed: zip, cabinet, 7-Zip, ISO 9660, tar also compressed. Nothing of it is unpacked under its own
/// name.</summary>
public abstract class PackedFile
{
    /// <summary>The most files that one may hold.</summary>
    protected const int MostFiles = 200_000;

    /// <summary>The most bytes that one may hold unpacked.</summary>
    protected const long MostBytes = 1L << 38;

    /// <summary>The codes of errors in packed files.</summary>
    private protected const string BadZip = "bad-zip", BadFile = "bad-packed-file";

    private const int DeepestPath = 64, LongestPath = 2048;

    private static readonly string[] s_endings =
        [".zip", ".cab", ".7z", ".iso", ".tar", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.bz2", ".tbz2", ".tar.zst", ".tzst",
        ".tar.lzma"];

    private readonly Dictionary<string, long> _files = new(StringComparer.OrdinalIgnoreCase);
    private long _bytes;

    /// <summary>Creates the file without entries.</summary>
    /// <param name="path">Where it is.</param>
    protected PackedFile(string path) => Path = path;

    /// <summary>The kinds of packed files, as messages name them.</summary>
    public const string Kinds = ".zip, .cab, .7z, .iso, .tar, .tar.gz, .tar.xz, .tar.bz2 or .tar.zst";

    /// <summary>Where it is.</summary>
    public string Path { get; }

    /// <summary>Its files with their lengths in bytes, by their paths with '/', compared without case.</summary>
    public IReadOnlyDictionary<string, long> Files => _files;

    /// <summary>Bytes of its files together, as it says.</summary>
    private protected long Bytes => _bytes;

    /// <summary>Whether a file is named as one of the kinds.</summary>
    public static bool IsNamed(string path) => s_endings.Any(e => path.EndsWith(e, StringComparison.OrdinalIgnoreCase));

    /// <summary>Opens a packed file and reads what it holds; its kind is told by its content.</summary>
    /// <param name="path">The file.</param>
    /// <param name="cancellation">Ends reading, now and later.</param>
    /// <exception cref="VembarException">It cannot be read, is damaged, of no known kind, or holds more than one may.</exception>
    public static PackedFile Open(string path, CancellationToken cancellation = default)
    {
        var code = BadFile;
        try
        {
            using var file = InputFile.OpenRead(path);
            Span<byte> start = stackalloc byte[2];
            if (file.ReadAtLeast(start, 2, throwOnEndOfStream: false) == 2 && start.SequenceEqual("PK"u8))
                code = BadZip;
            return code == BadZip ? new ZipPackedFile(path)
                : new SpooledPackedFile(path, file.Length, () => Posix.OpenFile(path, write: false), cancellation);
        }
        catch (Exception failure) when (ToError(failure, path, code) is { } error)
        {
            throw error;
        }
    }

    /// <summary>A packed file that lies in another.</summary>
    /// <param name="bytes">All of it; not a zip file.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <exception cref="VembarException">It is damaged or of no known kind.</exception>
    internal static PackedFile InMemory(byte[] bytes, string displayName)
    {
        try
        {
            return new SpooledPackedFile(displayName, bytes.Length, () =>
            {
                var file = TemporaryFile.Create(bytes.Length, $"'{displayName}'");
                TemporaryFile.Write(file, bytes, 0);
                return file;
            }, CancellationToken.None);
        }
        catch (Exception failure) when (ToError(failure, displayName) is { } error)
        {
            throw error;
        }
    }

    /// <summary>One of its files to read, from the start. What is read is as long as <see cref="Files"/> has it.</summary>
    /// <param name="name">A key of <see cref="Files"/>.</param>
    /// <exception cref="VembarException">It cannot be read.</exception>
    public abstract Stream Open(string name);

    /// <summary>Says what is wrong with the packed file.</summary>
    /// <returns>The error to throw, or null when it is none of its own.</returns>
    private protected static VembarException? ToError(Exception failure, string path, string code = BadFile) => failure switch
    {
        VembarException => null,
        InvalidDataException =>
            VembarException.Input(code, $"'{path}' cannot be unpacked: {failure.Message.TrimEnd('.')}",
            "Fetch the file again, or unpack it yourself."),
        _ => VembarException.From(failure, "read", path),
    };

    /// <summary>Notes a file that it holds; of two with one name the first counts.</summary>
    /// <returns>Its path with '/', or null when it is there already.</returns>
    /// <exception cref="InvalidDataException">It is one too many, or has no path that a file can have.</exception>
    private protected string? Note(string name, long length)
    {
        var parts = name.Split(['/', '\\'], StringSplitOptions.RemoveEmptyEntries).Where(p => p != ".").ToArray();
        if (parts.Length == 0)
            return null;
        if (parts.Contains(".."))
            throw new InvalidDataException($"the name '{name}' in it leads out of it");
        if (parts.Length > DeepestPath || name.Length > LongestPath)
            throw new InvalidDataException($"a path in it is deeper than {DeepestPath} folders or longer than {LongestPath} characters: "
                + $"'{name[..Math.Min(name.Length, 60)]}…'");
        if (length < 0 || (_bytes += length) > MostBytes || _bytes < 0)
            throw new InvalidDataException($"it holds more than {MostBytes >> 30} GiB");
        if (_files.Count == MostFiles)
            throw new InvalidDataException($"it holds more than {MostFiles} files");
        var path = string.Join('/', parts);
        return _files.TryAdd(path, length) ? path : null;
    }
}

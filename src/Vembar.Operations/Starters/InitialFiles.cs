using System.Globalization;
using System.Text;
using Vembar.Common;

namespace Vembar.Operations.Starters;

/// <summary>The files that a kernel starts with, written as a cpio archive of the form "newc" (the kernel's
/// Documentation/driver-api/early-userspace/buffer-format.rst). The same files give the same bytes.</summary>
internal sealed class InitialFiles
{
    private const uint Folder = 0x4000, File = 0x8000, Link = 0xA000, Plain = 0x1A4, Runs = 0x1ED;

    private readonly SortedDictionary<string, (uint Mode, Func<byte[]> Content, long Length)> _entries = new(StringComparer.Ordinal);

    /// <summary>Files, links and folders.</summary>
    public int Count => _entries.Count;

    /// <summary>Whether something is at a path.</summary>
    public bool Has(string path) => _entries.ContainsKey(path);

    /// <summary>Adds a folder and those above it.</summary>
    public void AddFolder(string path)
    {
        for (var at = path; at.Length > 0; at = Path.GetDirectoryName(at) ?? "")
            _entries.TryAdd(at, (Folder | Runs, () => [], 0));
    }

    private void Add(string path, uint mode, Func<byte[]> content, long length)
    {
        AddFolder(Path.GetDirectoryName(path) ?? "");
        _entries[path] = (mode, content, length);
    }

    /// <summary>Adds a file.</summary>
    /// <param name="path">Where, without a '/' in front.</param>
    /// <param name="from">The file.</param>
    /// <param name="runs">Whether it may be run.</param>
    public void AddFile(string path, string from, bool runs = false) =>
        Add(path, File | (runs ? Runs : Plain), () => System.IO.File.ReadAllBytes(from), new FileInfo(from).Length);

    /// <summary>Adds a file with a text.</summary>
    public void AddText(string path, string text, bool runs = false)
    {
        var bytes = Encoding.UTF8.GetBytes(text);
        Add(path, File | (runs ? Runs : Plain), () => bytes, bytes.Length);
    }

    /// <summary>Adds a symbolic link.</summary>
    public void AddLink(string path, string target)
    {
        var bytes = Encoding.UTF8.GetBytes(target);
        Add(path, Link | 0x1FF, () => bytes, bytes.Length);
    }

    /// <summary>Adds a folder with all below it.</summary>
    /// <param name="path">Where.</param>
    /// <param name="from">The folder.</param>
    /// <exception cref="VembarException">Something in it is neither a file nor a folder nor a link.</exception>
    public void AddTree(string path, string from)
    {
        AddFolder(path);
        foreach (var info in new DirectoryInfo(from).EnumerateFileSystemInfos().OrderBy(i => i.Name, StringComparer.Ordinal))
        {
            var own = $"{path}/{info.Name}";
            if (info.LinkTarget is { } target)
                AddLink(own, target);
            else if (info is DirectoryInfo)
                AddTree(own, info.FullName);
            else if (Native.Posix.TryStat(null, Native.PosixName.Encode(info.FullName), out var stat, followLink: false)
                && stat.Kind == Native.PosixKind.File)
                AddFile(own, info.FullName, (info.UnixFileMode & UnixFileMode.UserExecute) != 0);
            else
                throw VembarException.Input("bad-tools", $"'{info.FullName}' is no file, and cannot go into a starter", "Take it out.");
        }
    }

    /// <summary>Writes the archive.</summary>
    public void Write(Stream output, CancellationToken cancellation)
    {
        var number = 1u;
        var at = 0L;
        foreach (var (path, (mode, content, _)) in _entries)
        {
            cancellation.ThrowIfCancellationRequested();
            at = WriteEntry(output, at, path, mode, number++, content());
        }
        WriteEntry(output, at, "TRAILER!!!", 0, 0, []);
    }

    // A head in hexadecimal figures, the name, the content; each begins at a multiple of four.
    private static long WriteEntry(Stream output, long at, string path, uint mode, uint number, byte[] content)
    {
        var name = Encoding.UTF8.GetBytes(path);
        var links = (mode & 0xF000) == Folder ? 2u : 1u;
        var head = string.Create(CultureInfo.InvariantCulture,
            $"070701{number:X8}{mode:X8}{0:X8}{0:X8}{links:X8}{0:X8}{content.Length:X8}{0:X8}{0:X8}{0:X8}{0:X8}{name.Length + 1:X8}{0:X8}");
        output.Write(Encoding.ASCII.GetBytes(head));
        output.Write(name);
        output.WriteByte(0);
        at += head.Length + name.Length + 1;
        at = Pad(output, at);
        output.Write(content);
        return Pad(output, at + content.Length);
    }

    private static long Pad(Stream output, long at)
    {
        while (at % 4 != 0)
        {
            output.WriteByte(0);
            at++;
        }
        return at;
    }
}

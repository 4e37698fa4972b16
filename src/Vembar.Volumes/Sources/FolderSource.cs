using Microsoft.Win32.SafeHandles;
using Vembar.Common;
using Vembar.Images.Contents;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Native;

namespace Vembar.Volumes.Sources;

/// <summary>
/// A folder of Linux as the root of an install. It is only read, access times included. On a mount by ntfs-3g the
/// metadata of Windows is read from the mount's extended attributes.
/// </summary>
public sealed class FolderSource : ISource
{
    private readonly SafeFileHandle _root;
    private readonly FolderEntryReader _entries;

    private FolderSource(string path, SafeFileHandle root)
    {
        DisplayName = path;
        _root = root;
        _entries = new FolderEntryReader(path, Posix.GetAttribute(root, ".\0"u8, "system.ntfs_attrib_be") is not null);
    }

    /// <summary>Opens a folder.</summary>
    /// <exception cref="VembarException">It is not there, not a folder, or must not be read.</exception>
    public static FolderSource Open(string path)
    {
        try
        {
            return new FolderSource(path, Posix.OpenFolder(null, PosixName.Encode(path), followLink: true));
        }
        catch (NativeException failure) when (failure.Errno is Errno.NotFound or Errno.NotDirectory)
        {
            if (Directory.Exists(path))
                throw VembarException.Environment("no-proc", $"the folder '{path}' cannot be opened: there is no /proc here",
                    "Mount it: mount -t proc proc /proc.");
            if (File.Exists(path))
                throw VembarException.Input("not-a-folder", $"'{path}' is a file, not a folder",
                    "Name the folder that is the root of the Windows volume.");
            throw path.Contains('#') || Nearest(path) is not { } near
                ? VembarException.Input("no-such-source", $"there is no folder or disk '{path}'",
                Advice.Of("no-such-source", ("path", path)))
                : VembarException.Input("no-such-source", $"there is no folder or disk '{path}'", $"Did you mean '{near}'?");
        }
        catch (NativeException failure)
        {
            throw VembarException.From(failure, "read", path)!;
        }
    }

    private static string? Nearest(string path)
    {
        try
        {
            var full = Path.TrimEndingDirectorySeparator(Path.GetFullPath(path));
            var parent = Path.GetDirectoryName(full);
            var name = Path.GetFileName(full);
            return parent is null || !Directory.Exists(parent) ? null : Directory.EnumerateFileSystemEntries(parent)
                .Select(d => (Path: d, Distance: EditDistance.Distance(Path.GetFileName(d), name)))
                .Where(d => d.Distance <= Math.Max(2, name.Length / 3)).OrderBy(d => d.Distance)
                .Select(d => Path.Combine(Path.GetDirectoryName(Path.TrimEndingDirectorySeparator(path)) ?? "", Path.GetFileName(d.Path)))
                    .FirstOrDefault();
        }
        catch (IOException)
        {
            return null;
        }
        catch (UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <inheritdoc/>
    public string DisplayName { get; }

    /// <inheritdoc/>
    public string Kind => "folder";

    /// <summary>Tells this folder from any other that has been at the same path: its file number, and what tells its file system from
    /// others.</summary>
    public string Identity => SourceIdentity.Of(_root);

    /// <inheritdoc/>
    public bool KeepsChangeTimes => false;

    /// <inheritdoc/>
    public DateTime? ChangedBefore(DateTime began, long latest)
    {
        // A change within the same tick as the latest one would not show; ticks are two seconds long at most.
        const long Tick = TimeSpan.TicksPerSecond * 2;
        var start = FileTime.From(began).Ticks - Tick;
        // On this machine's own clock, what is later than all that there was is later than the walk; another machine's may differ from
        // ours.
        var before = SourceIdentity.HasOurClock(_root) ? latest < start ? latest + 1 : start : latest - Tick;
        return before > 0 ? new FileTime(before).ToDateTime() : null;
    }

    /// <inheritdoc/>
    public Task<SourceTree> WalkAsync(WalkOptions options, CancellationToken cancellation) =>
        new FolderWalker(_root, DisplayName, _entries).RunAsync(options, cancellation);

    /// <summary>Opens a file of a walk for reading.</summary>
    /// <exception cref="NativeException">It cannot be opened.</exception>
    public ISourceFile Open(SourceNode node)
    {
        var file = FolderWalker.WithParent(_root, node, (folder, path) => Posix.OpenRead(folder, path));
        try
        {
            if (node.LacksAttributes && Posix.HasAttributes(file))
                node.Entry = node.Entry with
                {
                    PosixAttributes =
                        FolderWalker.WithParent(_root, node, (folder, path) => FolderEntryReader.Attributes(folder, path)),
                };
            return new PosixSourceFile(file);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    // Windows paths do not tell case: each part is looked for in its folder.
    private string? Locate(WindowsPath path)
    {
        var at = DisplayName;
        foreach (var part in path.Parts)
        {
            var exact = Path.Combine(at, part);
            if (Path.Exists(exact))
            {
                at = exact;
                continue;
            }
            if (!Directory.Exists(at))
                return null;
            var match = Directory.EnumerateFileSystemEntries(at)
                .FirstOrDefault(e => Path.GetFileName(e).Equals(part, StringComparison.OrdinalIgnoreCase));
            if (match is null)
                return null;
            at = match;
        }
        return at;
    }

    private T Guarded<T>(WindowsPath path, Func<string?, T> read)
    {
        try
        {
            return read(Locate(path));
        }
        catch (Exception failure) when (failure is not VembarException
            && VembarException.From(failure, "read", $"{DisplayName}/{path}") is { } error)
        {
            throw error;
        }
    }

    /// <inheritdoc/>
    public IReadOnlyList<string> Names(WindowsPath folder) => Listing(folder, Directory.EnumerateFileSystemEntries);

    /// <inheritdoc/>
    public IReadOnlyList<string> Folders(WindowsPath folder) => Listing(folder, Directory.EnumerateDirectories);

    private IReadOnlyList<string> Listing(WindowsPath folder, Func<string, IEnumerable<string>> paths) =>
        Guarded<IReadOnlyList<string>>(folder,
        at => at is not null && Directory.Exists(at) ? [.. paths(at).Select(e => Path.GetFileName(e)).Order(StringComparer.Ordinal)] : []);

    /// <inheritdoc/>
    public bool Exists(WindowsPath path) => Guarded(path, at => at is not null);

    /// <inheritdoc/>
    public byte[]? ReadFile(WindowsPath path, long max) => Guarded(path, at =>
    {
        if (at is null || !File.Exists(at))
            return null;
        using var handle = Posix.OpenRead(null, PosixName.Encode(at));
        var length = Posix.Stat(handle).Size;
        if (length > max)
            throw VembarException.Input("file-too-large",
                $"{DisplayName}: '{path}' is {length} bytes long; at most {max} can be read here");
        var bytes = new byte[length];
        var got = Posix.Read(handle, bytes, 0);
        return got == bytes.Length ? bytes : bytes[..got];
    });

    /// <inheritdoc/>
    public byte[]? ReadStart(WindowsPath path, int count) => Guarded(path, at =>
    {
        if (at is null || !File.Exists(at))
            return null;
        using var handle = Posix.OpenRead(null, PosixName.Encode(at));
        var bytes = new byte[count];
        return bytes[..Posix.Read(handle, bytes, 0)];
    });

    /// <inheritdoc/>
    public void Dispose() => _root.Dispose();
}

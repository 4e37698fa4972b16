using System.Text.RegularExpressions;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Volumes.Disks;

/// <summary>Opens the files that a disk image names: regular files beside the image or below its folder, or below a folder that the user
/// allowed. No name leads to a server, and no link out of these folders.</summary>
/// <param name="image">The path of the image that the user named.</param>
/// <param name="allowed">More folders; or a file or block device that the user named, which may be used itself. Null where the command
/// takes none.</param>
internal sealed partial class ChainNames(string image, IReadOnlyList<string>? allowed)
{
    private readonly IReadOnlyList<string> _folders =
        [Path.GetDirectoryName(Path.GetFullPath(image))!, .. (allowed ?? []).Select(Path.GetFullPath)];

    // The names of protocols have two letters and more; one is a drive of Windows.
    [GeneratedRegex("^[A-Za-z][A-Za-z0-9+.-]+:")]
    private static partial Regex Protocol();

    /// <summary>Opens a file for reading.</summary>
    /// <param name="name">Its name as an image says it.</param>
    /// <param name="from">The path of the image that says it.</param>
    /// <param name="what">What it is for that image: "backing file", "extent".</param>
    /// <exception cref="VembarException">It is not there, or not allowed.</exception>
    public FileDevice Open(string name, string from, string what)
    {
        if (Protocol().IsMatch(name))
            throw VembarException.Input("chain-outside",
                $"the disk image '{from}' names '{Shown(name)}' as its {what}: only files are opened",
                "Convert it to one image with the program that wrote it.");
        if (name.Length == 0 || name.Contains('\0', StringComparison.Ordinal))
            throw VembarException.Input("bad-disk-image", $"the disk image '{from}' names a {what} that no file can be",
                "It is damaged; use another copy.");
        var path = Path.GetFullPath(Path.Combine(Path.GetDirectoryName(Path.GetFullPath(from))!, name));
        if (allowed?.Contains(path) == true)
            return FileDevice.Open(path, write: false);
        if (Folder(path) is not { } folder)
            throw Outside($"the {what} '{Shown(path)}' of the disk image '{from}' is neither beside it nor below its folder",
                Advice.Of("allow-chain", ("folder", Shown(Path.GetDirectoryName(path) ?? "/"))));
        try
        {
            return OpenBelow(folder, path);
        }
        catch (NativeException failure)
        {
            throw Problem(failure, path, from, what);
        }
    }

    /// <summary>Opens a file for reading where it is there and allowed.</summary>
    /// <returns>Null where it is not.</returns>
    public FileDevice? TryOpen(string path)
    {
        try
        {
            return Folder(path) is { } folder && !path.Contains('\0', StringComparison.Ordinal) ? OpenBelow(folder, path) : null;
        }
        catch (NativeException)
        {
            return null;
        }
    }

    private string? Folder(string path) => _folders.FirstOrDefault(f => path.Length > f.Length + 1
        && path.StartsWith(f, StringComparison.Ordinal) && (f.EndsWith('/') || path[f.Length] == '/'));

    private static FileDevice OpenBelow(string folder, string path)
    {
        using var root = Posix.OpenFolder(null, PosixName.Encode(folder), followLink: true);
        var file = Posix.OpenReadBeneath(root, Path.GetRelativePath(folder, path));
        if (Posix.Stat(file).Kind == PosixKind.File)
            return FileDevice.Of(path, file);
        var kind = Posix.Stat(file).Kind;
        file.Dispose();
        throw new NativeException("open", path, kind == PosixKind.Folder ? Errno.IsFolder : Errno.NotAFile);
    }

    private VembarException Problem(NativeException failure, string path, string from, string what) => failure.Errno switch
    {
        Errno.NotFound or Errno.NotDirectory => VembarException.Input("chain-missing",
            $"the {what} '{Shown(path)}' of the disk image '{from}' is missing",
            "Put all files of the disk image where it names them, or join them into one image."),
        Errno.CrossDevice or Errno.Loop => Outside($"the {what} '{Shown(path)}' of the disk image '{from}' is behind a link that leads out "
            + "of its folder", Advice.Of("allow-chain-of-file")),
        _ => VembarException.Input("chain-unreadable", $"the {what} '{Shown(path)}' of the disk image '{from}' cannot be used: "
            + failure.Message, "Only regular files are opened."),
    };

    // Not every command takes more folders.
    private VembarException Outside(string message, Advice advice) => allowed is null
        ? VembarException.Input("chain-outside", message, "Put all files of the disk image beside it, or join them into one image.")
        : VembarException.Input("chain-outside", message, advice);

    // What is said of it goes to terminals.
    private static string Shown(string name) =>
        string.Concat(name.Take(200).Select(c => char.IsControl(c) ? '?' : c)) + (name.Length > 200 ? "…" : "");
}

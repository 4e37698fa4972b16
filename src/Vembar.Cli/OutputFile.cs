using System.Text;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Native;

namespace Vembar.Cli;

/// <summary>A file that a command writes beside its output. What is there and was not written by the same kind of command stays.</summary>
internal sealed class OutputFile
{
    private readonly string _path;
    private readonly Func<byte[], bool> _isOwn;
    private readonly Session _session;

    private OutputFile(string path, Func<byte[], bool> isOwn, Session session)
    {
        _path = path;
        _isOwn = isOwn;
        _session = session;
    }

    /// <summary>Looks whether a file may be written, before work begins.</summary>
    /// <param name="path">Where it goes; null for nowhere.</param>
    /// <param name="session">Whether files may be written over.</param>
    /// <param name="mark">A text that stands in the beginning of every file of this kind; null when none tells them from what people
    /// wrote.</param>
    /// <returns>Null when there is no path.</returns>
    /// <exception cref="VembarException">There is something else there.</exception>
    public static OutputFile? At(string? path, Session session, string? mark = null)
    {
        if (path is null)
            return null;
        var bytes = mark is null ? null : Encoding.UTF8.GetBytes(mark);
        var file = new OutputFile(path, head => bytes is not null && head.AsSpan().IndexOf(bytes) >= 0, session);
        file.Check();
        return file;
    }

    // Whether there is a file that is to be written over.
    private bool Check()
    {
        const int HeadLength = 4096;
        if (Directory.Exists(_path))
            throw VembarException.Input("not-a-file", $"'{_path}' is a folder; a file is to be written there", "Name a file.");
        if (!Path.Exists(_path) && new FileInfo(_path).LinkTarget is null)
            return false;
        try
        {
            using var file = InputFile.OpenRead(_path);
            var head = new byte[Math.Min(HeadLength, file.Length)];
            file.ReadExactly(head);
            if (_session.MayOverwrite && head.Length > 0)
                Overwriting.Check(_path, _session.CommandLine);
            if (_session.MayOverwrite || head.Length == 0 || _isOwn(head))
                return true;
        }
        catch (Exception failure) when (VembarException.From(failure, "write", _path) is { } error)
        {
            throw error;
        }
        throw VembarException.Input("output-exists", $"'{_path}' is there already, and was not written by such a command",
            "Name another file, or write over it with --overwrite.");
    }

    /// <summary>Writes a text whole, or leaves what was there.</summary>
    /// <exception cref="VembarException">It cannot be written, or something came there meanwhile.</exception>
    public void Write(string text) => Write(file => file.Write(Encoding.UTF8.GetBytes(text)));

    private void Write(Action<Stream> write)
    {
        var replaces = Check();
        // A link stays a link: what it points to is replaced.
        var full = Path.GetFullPath(replaces ? File.ResolveLinkTarget(_path, returnFinalTarget: true)?.FullName ?? _path : _path);
        var beside = Path.Combine(Path.GetDirectoryName(full)!, $".{Path.GetFileName(full)}.{Guid.NewGuid():N}");
        try
        {
#pragma warning disable CA2000 // owned by the stream
            using (var file = new FileStream(Posix.OpenFile(beside, write: true, createNew: true), FileAccess.ReadWrite))
#pragma warning restore CA2000
                write(file);
            Posix.Rename(beside, full, replaces);
        }
        catch (Exception failure)
        {
            File.Delete(beside);
            throw VembarException.From(failure, "write", _path) ?? failure;
        }
    }
}

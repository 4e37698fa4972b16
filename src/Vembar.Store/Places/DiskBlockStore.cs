using Vembar.Common.Files;
using Vembar.Native;

namespace Vembar.Store.Places;

/// <summary>
/// Keeps blocks in a folder, up to a number of bytes; what was not used for longest goes first. Several processes may use it at once, and
/// all of it may be removed at any time.
/// </summary>
public sealed class DiskBlockStore : IBlockStore
{
    private static readonly TimeSpan s_worthTouching = TimeSpan.FromMinutes(10);
    private readonly string _folder;
    private readonly Lock _gate = new();
    private long _sinceTrimmed;
    private volatile bool _isOff;

    /// <param name="folder">The folder; made when something is kept.</param>
    /// <param name="limit">How many bytes it may hold.</param>
    public DiskBlockStore(string folder, long limit)
    {
        _folder = folder;
        Limit = limit;
        // Others may have filled it.
        _sinceTrimmed = limit;
    }

    /// <summary>How many bytes it may hold.</summary>
    public long Limit { get; }

    private string PathOf(string name) => Path.Combine(_folder, name[..2], name);

    /// <inheritdoc/>
    public bool Contains(string name) => !_isOff && Posix.Exists(PathOf(name));

    /// <inheritdoc/>
    public bool TryRead(string name, Span<byte> to)
    {
        if (_isOff)
            return false;
        try
        {
            var path = PathOf(name);
            if (!Posix.TryStat(null, PosixName.Encode(path), out var found, followLink: false) || found.Size != to.Length)
                return false;
            using var handle = Posix.OpenFile(path, write: false);
            var done = 0;
            while (done < to.Length)
            {
                var count = RandomAccess.Read(handle, to[done..], done);
                if (count == 0)
                    return false;
                done += count;
            }
            if (DateTime.UtcNow - File.GetLastWriteTimeUtc(path) > s_worthTouching)
                File.SetLastWriteTimeUtc(path, DateTime.UtcNow);
            return true;
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NativeException)
        {
            return false;
        }
    }

    /// <inheritdoc/>
    public void Keep(string name, ReadOnlySpan<byte> bytes)
    {
        if (_isOff || bytes.Length > Limit / 4)
            return;
        var path = PathOf(name);
        var scratch = $"{path}.{Guid.NewGuid():N}";
        try
        {
            if (Posix.Exists(path))
                return;
            Trim(bytes.Length);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!,
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            using (var file = PrivateFile.Create(scratch))
                file.Write(bytes);
            File.Move(scratch, path, overwrite: true);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NativeException)
        {
            // No room, or no right: then nothing is kept.
            _isOff = true;
            TryDelete(scratch);
        }
    }

    /// <inheritdoc/>
    public void Forget(string name) => TryDelete(PathOf(name));

    private static bool TryDelete(string path)
    {
        try
        {
            File.Delete(path);
            return true;
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    // Looks over the folder when a part of what it may hold has come since the last time.
    private void Trim(long coming)
    {
        const int Part = 32;
        lock (_gate)
        {
            _sinceTrimmed += coming;
            if (_sinceTrimmed < Limit / Part)
                return;
            _sinceTrimmed = 0;
            var (bytes, files) = Look();
            var most = Limit - Limit / Part - coming;
            foreach (var file in files.OrderBy(f => f.Used).TakeWhile(_ => bytes > most))
            {
                if (TryDelete(file.Path))
                    bytes -= file.Bytes;
            }
        }
    }

    private (long Bytes, List<(string Path, long Bytes, DateTime Used)> Files) Look()
    {
        var files = new List<(string, long, DateTime)>();
        var bytes = 0L;
        if (!Directory.Exists(_folder))
            return (0, files);
        foreach (var file in new DirectoryInfo(_folder).EnumerateFiles("*", SearchOption.AllDirectories))
        {
            try
            {
                files.Add((file.FullName, file.Length, file.LastWriteTimeUtc));
                bytes += file.Length;
            }
            catch (FileNotFoundException)
            {
                // Another process took it away.
            }
        }
        return (bytes, files);
    }

    /// <summary>How much it holds.</summary>
    /// <returns>Bytes, and how many blocks.</returns>
    public (long Bytes, int Blocks) Measure()
    {
        var (bytes, files) = Look();
        return (bytes, files.Count);
    }

    /// <summary>Takes everything out.</summary>
    /// <returns>How many bytes that were.</returns>
    public long Clear() => Look().Files.Where(f => TryDelete(f.Path)).Sum(f => f.Bytes);
}

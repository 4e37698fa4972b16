using System.Security.Cryptography;
using System.Text;
using Vembar.Common;
using Vembar.Native;

namespace Vembar.Store.Places.Remote;

/// <summary>Where what is written lies until it is published. What could not be published is kept for the next run, once for each
/// place.</summary>
internal sealed class Spool : IDisposable
{
    private readonly string _path;
    private readonly string _keptPath;

    private Spool(string path, string keptPath, IArchiveFile file) => (_path, _keptPath, File) = (path, keptPath, file);

    /// <summary>The file.</summary>
    public IArchiveFile File { get; }

    /// <summary>Whether it is to be kept.</summary>
    public bool IsNeeded { get; set; } = true;

    private static string Name(string place) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(place)))[..32];

    private static string KeptPath(string place, PlaceOptions options) =>
        Path.Combine(options.SpoolFolder, $"{Name(place)}.tail");

    /// <summary>Begins a file.</summary>
    /// <exception cref="VembarException">It cannot be made.</exception>
    public static Spool Create(string place, PlaceOptions options)
    {
        var path = Path.Combine(options.SpoolFolder, $"{Name(place)}.{Environment.ProcessId}-{Guid.NewGuid():N}");
        try
        {
            Directory.CreateDirectory(options.SpoolFolder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            RemoveLeft(options.SpoolFolder);
#pragma warning disable CA2000 // owned by what is returned
            var file = LocalFileSystem.Instance.CreateNew(path);
#pragma warning restore CA2000
            file.TryLock();
            return new Spool(path, KeptPath(place, options), file);
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }

    // Files of runs that were killed: those that nobody has locked. What is in them is used again like what was kept.
    private static void RemoveLeft(string folder)
    {
        foreach (var left in Directory.EnumerateFiles(folder).Where(f => !f.EndsWith(".tail", StringComparison.Ordinal)))
        {
            try
            {
                using var file = LocalFileSystem.Instance.OpenWrite(left);
                if (!file.TryLock())
                    continue;
                var name = Path.GetFileName(left).Split('.')[0];
                System.IO.File.Move(left, Path.Combine(folder, $"{name}.tail"), overwrite: true);
            }
            catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NativeException)
            {
                // Somebody else takes care of it.
            }
        }
    }

    /// <summary>What an earlier run could not publish; null for nothing.</summary>
    public static IByteSource? Kept(string place, PlaceOptions options)
    {
        try
        {
            if (!Directory.Exists(options.SpoolFolder))
                return null;
            RemoveLeft(options.SpoolFolder);
            return Posix.Exists(KeptPath(place, options)) ? LocalFileSystem.Instance.OpenRead(KeptPath(place, options)) : null;
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException or NativeException)
        {
            return null;
        }
    }

    /// <summary>Takes away what was kept: it is published, or not needed any more.</summary>
    public static void Forget(string place, PlaceOptions options)
    {
        try
        {
            System.IO.File.Delete(KeptPath(place, options));
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            // It is used again, or not, by the next run.
        }
    }

    public int Read(Span<byte> to, long offset) => File.Read(to, offset);

    public void Write(ReadOnlySpan<byte> bytes, long offset) => File.Write(bytes, offset);

    public void Dispose()
    {
        try
        {
            // A few records are made again sooner than found again.
            const int WorthKeeping = 1 << 16;
            if (IsNeeded && File.Length >= WorthKeeping)
                System.IO.File.Move(_path, _keptPath, overwrite: true);
            else
                System.IO.File.Delete(_path);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            // The next run finds it.
        }
        File.Dispose();
    }
}

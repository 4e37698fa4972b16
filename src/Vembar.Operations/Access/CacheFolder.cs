using System.Globalization;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Native;
using Vembar.Store.Places;

namespace Vembar.Operations.Access;

/// <summary>Where blocks of archives that are far away are kept, and how many. docs/places.md.</summary>
/// <param name="environment">The environment's variables.</param>
public sealed class CacheFolder(Func<string, string?> environment)
{
    /// <summary>What is kept where nobody says how much: enough for the images of a fleet.</summary>
    public const long UsualLimit = 20L << 30;

    /// <summary>The folder; null when nothing is to be kept.</summary>
    public string? Folder
    {
        get
        {
            if (environment("VEMBAR_CACHE") is { Length: > 0 } named)
                return named.Equals("off", StringComparison.OrdinalIgnoreCase) ? null : named;
            if (environment("XDG_CACHE_HOME") is { Length: > 0 } cache)
                return Path.Combine(cache, "vembar");
            var home = environment("HOME") ?? Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
            return home.Length > 0 ? Path.Combine(home, ".cache", "vembar") : null;
        }
    }

    private string? LimitPath => Folder is { } folder ? Path.Combine(folder, "limit") : null;

    /// <summary>How many bytes may be kept: what the environment says, what was set, or the usual.</summary>
    /// <exception cref="VembarException">The environment says something else than a size.</exception>
    public long Limit
    {
        get
        {
            if (environment("VEMBAR_CACHE_SIZE") is { Length: > 0 } said)
                return ByteSize.TryParse(said, out var bytes) ? bytes : throw new VembarException(ErrorKind.Usage, "bad-size",
                    $"VEMBAR_CACHE_SIZE is '{said}', which is not a size", "Write for instance \"20 GiB\".");
            try
            {
                return LimitPath is { } path && File.Exists(path)
                    && long.TryParse(File.ReadAllText(path).Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out var set)
                    ? set : UsualLimit;
            }
            catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
            {
                return UsualLimit;
            }
        }
    }

    /// <summary>Sets how many bytes may be kept from now on.</summary>
    /// <exception cref="VembarException">That cannot be written.</exception>
    public void SetLimit(long bytes)
    {
        try
        {
            Directory.CreateDirectory(Folder!, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            File.WriteAllText(LimitPath!, bytes.ToString(CultureInfo.InvariantCulture) + "\n");
        }
        catch (Exception failure) when (VembarException.From(failure, "write", LimitPath!) is { } error)
        {
            throw error;
        }
    }

    /// <summary>The blocks; null when nothing is to be kept.</summary>
    public DiskBlockStore? Blocks => Folder is { } folder && Limit > 0 ? new DiskBlockStore(Path.Combine(folder, "blocks"), Limit) : null;

    /// <summary>Where what is written for a place lies until it is published.</summary>
    /// <param name="temporary">Used where nothing is to be kept, or cannot be.</param>
    /// <exception cref="VembarException">There is a folder of that name which is somebody else's.</exception>
    public string SpoolFolder(string temporary)
    {
        if (Folder is not { } folder)
            return TemporarySpool(temporary);
        try
        {
            Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            return Checks.MayWrite(folder) ? Path.Combine(folder, "spool") : TemporarySpool(temporary);
        }
        catch (Exception failure) when (failure is IOException or UnauthorizedAccessException)
        {
            return TemporarySpool(temporary);
        }
    }

    // Everybody may write in the temporary folder, and whoever owns this one decides what is published in the user's name.
    private static string TemporarySpool(string temporary)
    {
        var path = Path.Combine(temporary, $"vembar-spool-{Environment.UserName}");
        try
        {
            Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            const uint OthersMayWrite = 0x12; // 022
            var stat = Posix.Stat(null, PosixName.Encode(path));
            return stat.Kind == PosixKind.Folder && stat.Uid == Posix.UserId && (stat.Mode & OthersMayWrite) == 0 ? path
                : throw VembarException.Environment("spool-not-own", $"'{path}' is not a folder that only you may write to",
                    "Remove it, or name a folder of your own in VEMBAR_CACHE or TMPDIR.");
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }
}

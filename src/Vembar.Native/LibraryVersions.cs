using System.Globalization;
using System.Runtime.InteropServices;

namespace Vembar.Native;

/// <summary>Which versions of the system's libraries there are.</summary>
public static partial class LibraryVersions
{
    [LibraryImport(Zstd.Library)] private static partial nint ZSTD_versionString();
    [LibraryImport("libarchive.so.13")] private static partial int archive_version_number();

    /// <summary>The libraries by name, with their versions; null for one that is not installed.</summary>
    public static IReadOnlyList<(string Name, string? Version)> All =>
    [
        ("libzstd", Or(() => Text(ZSTD_versionString()))),
        ("libarchive", Or(() => Dotted(archive_version_number()))),
        // It does not say its version, only that of its interface.
        ("libntfs-3g", NativeLibrary.TryLoad(NtfsVolume.Library, out _) ? NtfsVolume.Library.Split('.')[^1] : null),
    ];

    private static string? Or(Func<string> version)
    {
        try
        {
            return version();
        }
        catch (Exception failure) when (failure is DllNotFoundException or EntryPointNotFoundException)
        {
            return null;
        }
    }

    private static string Text(nint text) => Marshal.PtrToStringUTF8(text) ?? "";

    private static string Dotted(int number) =>
        string.Create(CultureInfo.InvariantCulture, $"{number / 1_000_000}.{number / 1000 % 1000}.{number % 1000}");
}

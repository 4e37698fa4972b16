using Vembar.Windows.Install;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The Windows that drivers are for.</summary>
/// <param name="Architecture">amd64, arm64 or x86.</param>
/// <param name="Major">The major version; 10 also for 11.</param>
/// <param name="Build">The build.</param>
/// <param name="Server">Whether it is a server.</param>
/// <param name="Language">The number of its language (0x0809).</param>
public sealed record WindowsTarget(string Architecture, int Major, int Build, bool Server = false, ushort Language = 0x409)
{
    private const int NewestBuild = 99_999, CurrentMajor = 10;

    /// <summary>The newest client of an architecture.</summary>
    public static WindowsTarget Newest(string architecture) => new(architecture, CurrentMajor, NewestBuild);

    /// <summary>The Windows of an install; null when it does not say its architecture.</summary>
    public static WindowsTarget? Of(WindowsInstall install)
    {
        var architecture = WindowsInstall.ArchitectureWord(install.Architecture);
        return architecture.Length == 0 ? null
            : new WindowsTarget(architecture, CurrentMajor, install.BuildNumber,
            install.InstallType.StartsWith("Server", StringComparison.Ordinal), install.Language);
    }
}

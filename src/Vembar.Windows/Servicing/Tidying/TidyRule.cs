namespace Vembar.Windows.Servicing.Tidying;

/// <summary>A rule by which an image is tidied.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Title">What it takes out.</param>
/// <param name="Patterns">Paths and patterns; those that begin with "%" are below the Windows folder.</param>
public sealed record TidyRule(string Name, string Title, params IReadOnlyList<string> Patterns)
{
    /// <summary>What replaced packages left: after that, what replaced them can be taken out, and the old ones are not back.</summary>
    public const string Packages = "replaced-packages";

    /// <summary>Versions of added drivers of which there is a newer one.</summary>
    public const string Drivers = "older-drivers";

    /// <summary>Room in hives that nothing uses; only by its own name, for it changes a hive from end to end.</summary>
    public const string Registry = "registry";

    /// <summary>All rules, in the order in which they are made.</summary>
    public static IReadOnlyList<TidyRule> All { get; } =
    [
        new(Packages, "what replaced packages left; the older versions cannot be brought back then"),
        new(Drivers, "added drivers of which a newer version is there"),
        new(Registry, "what registry hives do not use any more: they are written anew, so they are stored anew as well; not with 'all'"),
        new("temporary-files", "temporary files", "%Temp/**", "Users/*/AppData/Local/Temp/**", "Temp/**", "ProgramData/Temp/**"),
        new("logs", "logs of set-up, updates and services", "%Panther/**/*.log", "%Panther/**/*.etl", "%Panther/*.log", "%Logs/**",
        "%INF/*.log", "%debug/*.log", "%*.log", "%System32/LogFiles/**/*.log", "%System32/LogFiles/**/*.etl", "%Setup/**/*.log"),
        new("dumps", "memory dumps and error reports", "%MEMORY.DMP", "%Minidump/**", "%LiveKernelReports/**/*.dmp",
        "ProgramData/Microsoft/Windows/WER/**", "Users/*/AppData/Local/CrashDumps/**"),
        new("update-downloads", "downloads of updates that are made already", "%SoftwareDistribution/Download/**",
        "%ServiceProfiles/NetworkService/AppData/Local/Microsoft/Windows/DeliveryOptimization/Cache/**"),
        new("previous-windows", "an older Windows that set-up kept", "Windows.old", "Windows.old.*", "$WINDOWS.~BT", "$WINDOWS.~WS"),
        new("caches", "caches that Windows fills again", "%Prefetch/*.pf", "Users/*/AppData/Local/Microsoft/Windows/Explorer/*cache_*.db",
        "Users/*/AppData/Local/Microsoft/Windows/INetCache/**"),
    ];
}

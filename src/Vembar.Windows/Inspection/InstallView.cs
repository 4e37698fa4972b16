using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;

namespace Vembar.Windows.Inspection;

/// <summary>An install as rules look at it; each part is read when it is first asked for.</summary>
/// <param name="source">Its root.</param>
/// <param name="hive">Opens a hive; null when there is none of that name.</param>
/// <param name="windows">The name of its Windows folder.</param>
internal sealed class InstallView(IReadOnlyTree source, Func<string, RegistryHive?> hive, string windows)
{
    private readonly Lazy<WindowsInstall?> _install = new(() => hive("SOFTWARE") is { } software && hive("SYSTEM") is { } system
        ? WindowsInstall.Read(windows, software, system) : null);
    private readonly Lazy<IReadOnlyList<InstalledProgram>> _programs =
        new(() => hive("SOFTWARE") is { } software ? InstalledProgram.Read(software) : []);
    private readonly Lazy<IReadOnlyList<InstalledPackage>> _packages =
        new(() => InstalledPackage.Read(source, WindowsPath.Root.Child(windows)));
    private readonly Lazy<LocaleSettings?> _locale =
        new(() => hive("SYSTEM") is { } system ? LocaleSettings.Read(system, hive(ReadinessCheck.NewUsers)) : null);
    private readonly Lazy<IReadOnlyList<ListedDriver>> _drivers =
        new(() => hive("SYSTEM") is { } system ? [.. DriverDatabase.Read(system, inbox: true)] : []);

    /// <summary>Its files.</summary>
    public IReadOnlyTree Source => source;

    /// <summary>A hive; null when there is none of that name.</summary>
    public RegistryHive? Hive(string name) => hive(name);

    /// <summary>What Windows says of itself; null when its hives are not there.</summary>
    public WindowsInstall? Install => _install.Value;

    /// <summary>Its programs.</summary>
    public IReadOnlyList<InstalledProgram> Programs => _programs.Value;

    /// <summary>Its packages, also those whose place others took.</summary>
    public IReadOnlyList<InstalledPackage> Packages => _packages.Value;

    /// <summary>Languages, formats, time zone.</summary>
    public LocaleSettings? Locale => _locale.Value;

    /// <summary>The drivers that it knows.</summary>
    public IReadOnlyList<ListedDriver> Drivers => _drivers.Value;

    /// <summary>What the readiness checks find; null where they are what asks.</summary>
    public Func<IReadOnlyList<Finding>>? Readiness { get; init; }
}

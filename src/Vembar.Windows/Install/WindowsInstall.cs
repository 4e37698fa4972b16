using System.Globalization;
using Vembar.Common;
using Vembar.Images.Editing;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Install;

/// <summary>What a Windows install says of itself.</summary>
public sealed record WindowsInstall
{
    /// <summary>The name of the Windows folder, mostly "Windows".</summary>
    public required string Folder { get; init; }

    /// <summary>The product's name, corrected where the registry still has the one before.</summary>
    public string Product { get; init; } = "";

    /// <summary>The edition's id ("Enterprise").</summary>
    public string Edition { get; init; } = "";

    /// <summary>Client, Server, Server Core or WindowsPE.</summary>
    public string InstallType { get; init; } = "";

    /// <summary>Build with update revision.</summary>
    public string Build { get; init; } = "";

    /// <summary>The build alone; 0 when unknown.</summary>
    public int BuildNumber { get; init; }

    /// <summary>x64, arm64 or x86; empty when unknown.</summary>
    public string Architecture { get; init; } = "";

    /// <summary>Installed display languages.</summary>
    public IReadOnlyList<string> Languages { get; init; } = [];

    /// <summary>The number of the language that it was installed in (0x0809 for British English).</summary>
    public ushort Language { get; init; } = EnglishUnitedStates;

    /// <summary>The computer's name.</summary>
    public string ComputerName { get; init; } = "";

    /// <summary>generalized, generalized-audit, specialized, in-use, unfinished, or unknown.</summary>
    public string State { get; init; } = "unknown";

    private const ushort EnglishUnitedStates = 0x409;

    /// <summary>An architecture in Windows' own words: amd64 for x64.</summary>
    public static string ArchitectureWord(string architecture) => architecture == "x64" ? "amd64" : architecture;

    /// <summary>The path of a hive in System32/config.</summary>
    public static WindowsPath HivePath(string windowsFolder, string hive) =>
        WindowsPath.Root.Child(windowsFolder).Child("System32").Child("config").Child(hive);

    /// <summary>The name of the Windows folder, or null when there is no Windows.</summary>
    public static string? FindFolder(IReadOnlyTree files)
    {
        bool IsWindows(string name) => files.Exists(HivePath(name, "SYSTEM")) && files.Exists(HivePath(name, "SOFTWARE"))
            && files.Exists(WindowsPath.Root.Child(name).Child("System32").Child("ntoskrnl.exe"));
        var names = files.Folders(WindowsPath.Root);
        return names.FirstOrDefault(n => n.Equals("Windows", StringComparison.OrdinalIgnoreCase) && IsWindows(n))
            ?? names.FirstOrDefault(n => !n.StartsWith("Windows.old", StringComparison.OrdinalIgnoreCase) && IsWindows(n));
    }

    /// <summary>Whether an edit put another hive in the place of one that says what the install is.</summary>
    internal static bool IsChanged(TreeEditor files, string windowsFolder) =>
        ((string[])["SYSTEM", "SOFTWARE"]).Any(h => files.Find(HivePath(windowsFolder, h))?.Entry.New is not null);

    /// <summary>Reads what an install says of itself when an edit changed that.</summary>
    /// <returns>Null when there is no Windows, or its hives are as they were.</returns>
    /// <exception cref="VembarException">A hive is damaged.</exception>
    internal static WindowsInstall? ReadChanged(TreeEditor files) =>
        FindFolder(files) is { } folder && IsChanged(files, folder) ? Read(files) : null;

    /// <summary>Opens a hive of an install for reading.</summary>
    /// <exception cref="VembarException">It is missing or damaged.</exception>
    public static RegistryHive OpenHive(IReadOnlyTree files, string windowsFolder, string hive, bool write = false)
    {
        var path = HivePath(windowsFolder, hive);
        var bytes = files.ReadFile(path, RegistryHive.Longest)
            ?? throw VembarException.Input("no-hive", $"{files.DisplayName}: the registry hive '{path}' is missing",
            "Check that this is a whole Windows install.");
        return RegistryHive.Open(bytes, write, $"{files.DisplayName}: '{path}'");
    }

    /// <summary>Opens a hive of an install to read what of it is sound.</summary>
    /// <param name="files">The install.</param>
    /// <param name="windowsFolder">The name of the Windows folder.</param>
    /// <param name="hive">SYSTEM, SOFTWARE and so on.</param>
    /// <param name="damaged">Told of each damage that is met.</param>
    /// <exception cref="VembarException">It is not there or is not a hive.</exception>
    internal static RegistryHive OpenHive(IReadOnlyTree files, string windowsFolder, string hive, Action<string> damaged)
    {
        var path = HivePath(windowsFolder, hive);
        var bytes = files.ReadFile(path, RegistryHive.Longest)
            ?? throw VembarException.Input("no-hive", $"{files.DisplayName}: the registry hive '{path}' is missing",
            "Check that this is a whole Windows install.");
        return RegistryHive.OpenAsFarAsSound(bytes, $"{files.DisplayName}: '{path}'", damaged);
    }

    /// <summary>Reads what an install says of itself.</summary>
    /// <param name="files">The install.</param>
    /// <param name="opened">Told of the hives that it opens, for those who look into them as well.</param>
    /// <returns>Null when there is no Windows.</returns>
    /// <exception cref="VembarException">A hive is damaged.</exception>
    public static WindowsInstall? Read(IReadOnlyTree files, Action<string, RegistryHive>? opened = null)
    {
        if (FindFolder(files) is not { } folder)
            return null;
        var software = OpenHive(files, folder, "SOFTWARE");
        var system = OpenHive(files, folder, "SYSTEM");
        opened?.Invoke("SOFTWARE", software);
        opened?.Invoke("SYSTEM", system);
        return Read(folder, software, system);
    }

    /// <summary>Reads what an install says of itself from its open hives.</summary>
    /// <param name="folder">The name of its Windows folder.</param>
    /// <param name="software">SOFTWARE.</param>
    /// <param name="system">SYSTEM.</param>
    /// <exception cref="VembarException">A hive is damaged.</exception>
    public static WindowsInstall Read(string folder, RegistryHive software, RegistryHive system)
    {
        var version = software.Key(@"Microsoft\Windows NT\CurrentVersion");
        var control = ControlSet(system)?.Key("Control");
        var build = version?.GetString("CurrentBuildNumber") ?? "";
        var number = int.TryParse(build, CultureInfo.InvariantCulture, out var parsed) ? parsed : 0;
        var type = version?.GetString("InstallationType") ?? "";
        var product = version?.GetString("ProductName") ?? "";
        const int FirstBuildOf11 = 22000;
        if (number >= FirstBuildOf11 && type == "Client")
            product = product.Replace("Windows 10", "Windows 11", StringComparison.Ordinal);
        return new WindowsInstall
        {
            Folder = folder,
            Product = product,
            Edition = version?.GetString("EditionID") ?? "",
            InstallType = type,
            Build = build.Length > 0 && version?.GetDword("UBR") is { } revision
            ? string.Create(CultureInfo.InvariantCulture, $"{build}.{revision}") : build,
            BuildNumber = number,
            Architecture = control?.Key(@"Session Manager\Environment")?.GetString("PROCESSOR_ARCHITECTURE")?.ToUpperInvariant() switch
            {
                "AMD64" => "x64",
                "ARM64" => "arm64",
                "X86" => "x86",
                _ => "",
            },
            Languages = ReadLanguages(system),
            Language = ushort.TryParse(control?.Key(@"Nls\Language")?.GetString("InstallLanguage"), NumberStyles.HexNumber,
            CultureInfo.InvariantCulture, out var language) ? language : EnglishUnitedStates,
            ComputerName = control?.Key(@"ComputerName\ComputerName")?.GetString("ComputerName") ?? "",
            State = software.Key(@"Microsoft\Windows\CurrentVersion\Setup\State")?.GetString("ImageState") switch
            {
                "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE" => "generalized",
                "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT" => "generalized-audit",
                "IMAGE_STATE_SPECIALIZE_RESEAL_TO_OOBE" or "IMAGE_STATE_SPECIALIZE_RESEAL_TO_AUDIT" => "specialized",
                "IMAGE_STATE_COMPLETE" => "in-use",
                "IMAGE_STATE_UNDEPLOYABLE" => "unfinished",
                _ => "unknown",
            },
        };
    }

    /// <summary>The display languages of an install.</summary>
    public static IReadOnlyList<string> ReadLanguages(RegistryHive system) =>
        [.. (ControlSet(system)?.Key(@"Control\MUI\UILanguages")?.Subkeys ?? []).Select(k => k.Name)
        .Order(StringComparer.OrdinalIgnoreCase)];

    /// <summary>The control set that Windows starts with, or null.</summary>
    public static RegistryKey? ControlSet(RegistryHive system) =>
        system.Key("Select")?.GetDword("Current") is { } current
        ? system.Key(string.Create(CultureInfo.InvariantCulture, $"ControlSet{current:D3}")) : null;
}

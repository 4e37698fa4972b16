using System.Buffers.Binary;
using System.Globalization;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>
/// The driver database of an offline install: SYSTEM › DriverDatabase, and DRIVERS › DriverDatabase where that hive has one.
/// </summary>
/// <remarks>
/// The layout has no vendor documentation; it rests on what open-source virtual machine converters publish and write, and
/// on what installs of Windows 8 to 11 show. Version is 48 bytes: architecture and format word, class id, date, version.
/// </remarks>
public static class DriverDatabase
{
    private const string Root = "DriverDatabase";

    /// <summary>Whether a hive has a driver database.</summary>
    public static bool IsIn(RegistryHive hive) => hive.Key(Root) is not null;

    /// <summary>The packages that a hive lists, the added ones (oemN.inf) by their numbers.</summary>
    /// <param name="system">The hive.</param>
    /// <param name="inbox">Whether those that came with Windows are wanted too; they come first.</param>
    public static IReadOnlyList<ListedDriver> Read(RegistryHive system, bool inbox = false)
    {
        var drivers = new List<ListedDriver>();
        foreach (var file in system.Key($@"{Root}\DriverInfFiles")?.Subkeys ?? [])
        {
            var name = file.Name;
            if (!inbox && Number(name) < 0)
                continue;
            drivers.Add(ReadOne(system, file));
        }
        return [.. drivers.OrderBy(d => Number(d.Inf)).ThenBy(d => d.Inf, StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>A package that a hive lists; null when it does not.</summary>
    /// <param name="system">The hive.</param>
    /// <param name="inf">The name that it was published under.</param>
    public static ListedDriver? Find(RegistryHive system, string inf) =>
        system.Key($@"{Root}\DriverInfFiles\{inf}") is { } file ? ReadOne(system, file) : null;

    private static ListedDriver ReadOne(RegistryHive system, RegistryKey file)
    {
        var folder = file.GetString("Active") ?? (file.GetStrings("") is [var first, ..] ? first : "");
        var package = folder.Length > 0 ? system.Key($@"{Root}\DriverPackages\{folder}") : null;
        var classGuid = package?.Get("Version") is (_, { Length: >= 24 } words) ? new Guid(words.AsSpan(8, 16)) : Guid.Empty;
        var (date, version) = package?.Get("Version") is (_, { Length: >= 40 } bytes) ? ParseVersion(bytes) : (null, "");
        return new ListedDriver(
            file.Name, package?.GetString("InfName") ?? "", folder, package?.GetString("Provider") ?? "", version, date,
            [.. (package?.Key("Configurations")?.Subkeys ?? []).Select(c => c.GetString("Service")).OfType<string>()
            .Where(s => s.Length > 0).Distinct()],
            [.. Ids(package?.Key("Descriptors"), "")])
        { ClassGuid = classGuid };
    }

    // An id holds '\', so it is a path of keys: the leaves are the ids.
    private static IEnumerable<string> Ids(RegistryKey? key, string path)
    {
        foreach (var child in key?.Subkeys ?? [])
        {
            var own = path.Length > 0 ? $@"{path}\{child.Name}" : child.Name;
            if (child.GetString("Configuration") is not null)
                yield return own;
            foreach (var id in Ids(child, own))
                yield return id;
        }
    }

    /// <summary>The number of a published name (oem3.inf); -1 when it has none.</summary>
    public static int Number(string inf) =>
        inf.StartsWith("oem", StringComparison.OrdinalIgnoreCase) && inf.EndsWith(".inf", StringComparison.OrdinalIgnoreCase)
        && int.TryParse(inf.AsSpan(3, inf.Length - 7), NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : -1;

    private static (DateOnly?, string) ParseVersion(byte[] bytes)
    {
        var time = BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(24));
        var version = BinaryPrimitives.ReadUInt64LittleEndian(bytes.AsSpan(32));
        DateOnly? date = time > 0 && time < DateTime.MaxValue.ToFileTimeUtc() ? DateOnly.FromDateTime(DateTime.FromFileTimeUtc(time))
            : null;
        return (date, string.Create(CultureInfo.InvariantCulture,
            $"{version >> 48}.{(version >> 32) & 0xFFFF}.{(version >> 16) & 0xFFFF}.{version & 0xFFFF}"));
    }

    /// <summary>Registers a staged package.</summary>
    /// <param name="hive">A hive that has a driver database.</param>
    /// <param name="driver">The package as the image sees it.</param>
    /// <param name="inf">The name it is published under.</param>
    /// <param name="folder">Its folder in the driver store.</param>
    public static void Register(RegistryHive hive, FittedDriver driver, string inf, string folder)
    {
        var package = driver.Package;
        var root = hive.Key(Root)!;
        var file = root.Ensure($@"DriverInfFiles\{inf}");
        file.SetStrings("", [folder]);
        file.SetString("Active", folder);
        file.SetStrings("Configurations", driver.Sections.Keys);

        var entry = root.Ensure($@"DriverPackages\{folder}");
        entry.SetString("", inf);
        entry.SetString("InfName", package.InfName.ToLowerInvariant());
        entry.SetString("Provider", package.Provider);
        entry.SetString("Catalog", driver.Catalog);
        entry.Set("Version", RegistryType.Binary, VersionBytes(package, driver.Windows.Architecture));
        foreach (var section in driver.Sections.Values)
        {
            var configuration = entry.Ensure($@"Configurations\{section.Name}");
            configuration.SetDword("ConfigFlags", 0);
            if (section.Services.OrderByDescending(s => s.IsFunction).FirstOrDefault() is { } service)
                configuration.SetString("Service", service.Name);
        }
        foreach (var device in driver.Devices)
        {
            foreach (var id in device.Ids)
            {
                var descriptor = entry.Ensure($@"Descriptors\{id}");
                descriptor.SetString("Configuration", device.InstallSection);
                descriptor.SetString("Description", device.Description);
                descriptor.SetString("Manufacturer", device.Manufacturer);
                root.Ensure($@"DeviceIds\{id}").Set(inf, RegistryType.Binary, [0x01, 0xFF, 0x00, 0x00]);
            }
        }
        if (package.ClassGuid != Guid.Empty)
            root.Ensure($@"DeviceIds\{package.ClassGuid:B}").Set(inf, RegistryType.Binary, []);
    }

    /// <summary>Takes a package out of a database; keys that were there for it alone go too.</summary>
    /// <param name="hive">A hive that has a driver database.</param>
    /// <param name="listed">The package.</param>
    public static void Unregister(RegistryHive hive, ListedDriver listed)
    {
        var root = hive.Key(Root)!;
        foreach (var id in listed.Ids.Append(listed.ClassGuid.ToString("B")))
        {
            var path = $@"DeviceIds\{id}";
            root.Key(path)?.DeleteValue(listed.Inf);
            while (path.Contains('\\') && root.Key(path) is { } key && key.Values.Count == 0 && key.Subkeys.Count == 0)
            {
                key.Delete();
                path = path[..path.LastIndexOf('\\')];
            }
        }
        root.Key($@"DriverInfFiles\{listed.Inf}")?.Delete();
        if (listed.StoreFolder.Length > 0)
            root.Key($@"DriverPackages\{listed.StoreFolder}")?.Delete();
    }

    private static byte[] VersionBytes(DriverPackage package, string architecture)
    {
        // Processor numbers as in winnt.h: 0 x86, 9 amd64, 12 arm64.
        byte processor = architecture switch { "amd64" => 9, "arm64" => 12, _ => 0 };
        var bytes = new byte[48];
        bytes[1] = 0xFF;
        bytes[2] = processor;
        package.ClassGuid.TryWriteBytes(bytes.AsSpan(8));
        var date = package.Date == default ? 0 : package.Date.ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc).ToFileTimeUtc();
        BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(24), date);
        var v = package.Version;
        BinaryPrimitives.WriteUInt64LittleEndian(bytes.AsSpan(32),
            ((ulong)v.Major << 48) | ((ulong)v.Minor << 32) | ((ulong)v.Build << 16) | (uint)v.Revision);
        return bytes;
    }
}

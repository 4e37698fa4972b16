using System.Globalization;
using Vembar.Core.Content;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>A device that a package has a driver for.</summary>
/// <param name="Description">The device's name.</param>
/// <param name="Manufacturer">Who made it.</param>
/// <param name="InstallSection">The section that installs it, with its decoration.</param>
/// <param name="Ids">Hardware id first, then compatible ids.</param>
public sealed record DriverDevice(string Description, string Manufacturer, string InstallSection, IReadOnlyList<string> Ids);

/// <summary>A registry value that an INF asks for.</summary>
/// <param name="Subkey">The key below the root.</param>
/// <param name="Name">The value; empty for the default.</param>
/// <param name="Type">Its type.</param>
/// <param name="Bytes">Its bytes.</param>
public sealed record DriverRegistryValue(string Subkey, string Name, RegistryType Type, byte[] Bytes);

/// <summary>A service that an INF installs.</summary>
public sealed record DriverService(string Name, string DisplayName, uint Type, uint Start, uint ErrorControl, string Binary, string Group, bool IsFunction, IReadOnlyList<DriverRegistryValue> Values);

/// <summary>A file that an INF copies.</summary>
/// <param name="Source">Its path below the package's folder.</param>
/// <param name="DirectoryId">Where it goes: a directory id.</param>
/// <param name="Target">The path below that directory.</param>
public sealed record DriverCopy(string Source, string DirectoryId, string Target);

/// <summary>A driver package as its INF describes it for one architecture and Windows version.</summary>
/// <remarks>Source: the vendor's driver documentation on INF Version, Manufacturer, Models, DDInstall, CopyFiles, SourceDisksFiles, DestinationDirs and AddService.</remarks>
public sealed class DriverPackage
{
    // Classes without which Windows does not reach its own disk.
    private static readonly HashSet<Guid> s_bootClasses =
    [
        new("4d36e97b-e325-11ce-bfc1-08002be10318"), new("4d36e96a-e325-11ce-bfc1-08002be10318"), new("4d36e97d-e325-11ce-bfc1-08002be10318"),
        new("71a27cdd-812a-11d0-bec7-08002be2092f"), new("4d36e967-e325-11ce-bfc1-08002be10318"), new("4d36e96b-e325-11ce-bfc1-08002be10318"),
        new("4d36e96f-e325-11ce-bfc1-08002be10318"), new("36fc9e60-c465-11cf-8056-444553540000"),
    ];

    private readonly string _folder;

    private DriverPackage(InfFile inf, string folder, string name)
    {
        Inf = inf;
        _folder = folder;
        InfName = name;
    }

    /// <summary>The INF's text.</summary>
    public InfFile Inf { get; }

    /// <summary>The INF's file name.</summary>
    public string InfName { get; }

    /// <summary>The class ("SCSIAdapter").</summary>
    public string Class { get; private init; } = "";

    /// <summary>The class's id.</summary>
    public Guid ClassGuid { get; private init; }

    /// <summary>Who provides it.</summary>
    public string Provider { get; private init; } = "";

    /// <summary>The date of DriverVer.</summary>
    public DateOnly Date { get; private init; }

    /// <summary>The version of DriverVer, four parts.</summary>
    public Version Version { get; private init; } = new(0, 0, 0, 0);

    /// <summary>The architectures it has models for: x86, amd64, arm64; empty for undecorated ones.</summary>
    public IReadOnlyList<string> Architectures { get; private init; } = [];

    /// <summary>The security catalog's name; empty when none is named.</summary>
    public string Catalog { get; private set; } = "";

    /// <summary>Devices for the architecture and version asked for.</summary>
    public IReadOnlyList<DriverDevice> Devices { get; private set; } = [];

    /// <summary>Services that they need.</summary>
    public IReadOnlyDictionary<string, IReadOnlyList<DriverService>> Services { get; private set; } = new Dictionary<string, IReadOnlyList<DriverService>>();

    /// <summary>Files that are copied.</summary>
    public IReadOnlyList<DriverCopy> Copies { get; private set; } = [];

    /// <summary>Whether Windows needs it to start.</summary>
    public bool IsBootCritical => s_bootClasses.Contains(ClassGuid) || Services.Values.SelectMany(s => s).Any(s => s.Start == 0);

    /// <summary>Every file of the package, by its path below the folder: the INF, the catalog, what is copied.</summary>
    public IReadOnlyList<string> Files =>
        [.. new[] { InfName }.Concat(Catalog.Length > 0 ? [Catalog] : []).Concat(Copies.Select(c => c.Source)).Distinct(StringComparer.OrdinalIgnoreCase)];

    /// <summary>The INF files below a folder, or the one file named.</summary>
    /// <exception cref="VembarException">There is no such folder, or no INF in it.</exception>
    public static IReadOnlyList<string> FindInfs(string path)
    {
        if (File.Exists(path))
            return path.EndsWith(".inf", StringComparison.OrdinalIgnoreCase) ? [path] : throw VembarException.Input("not-an-inf", $"'{path}' is not an INF file", "Name an .inf file or a folder that holds some.");
        if (!Directory.Exists(path))
            throw VembarException.Input("no-such-folder", $"there is no driver folder '{path}'", "Check the path.");
        var infs = Directory.EnumerateFiles(path, "*", new EnumerationOptions { RecurseSubdirectories = true, MatchCasing = MatchCasing.CaseInsensitive })
            .Where(f => f.EndsWith(".inf", StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal).ToList();
        return infs.Count > 0 ? infs : throw VembarException.Input("no-inf", $"there is no INF file in '{path}' or below", "Unpack the vendor's driver package first; name the folder that holds its .inf file.");
    }

    /// <summary>Reads a package.</summary>
    /// <param name="path">The INF file.</param>
    /// <exception cref="VembarException">It cannot be read, or is not the INF of a driver.</exception>
    public static DriverPackage Read(string path)
    {
        byte[] bytes;
        try
        {
            if (new FileInfo(path).Length > InfFile.Longest)
                throw VembarException.Input("bad-inf", $"'{path}' is too long to be an INF file");
            bytes = File.ReadAllBytes(path);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read", path) is { } error)
        {
            throw error;
        }
        return Read(InfFile.Parse(bytes, path), Path.GetDirectoryName(Path.GetFullPath(path))!, Path.GetFileName(path));
    }

    /// <summary>Reads a package from its INF.</summary>
    /// <param name="inf">The INF.</param>
    /// <param name="folder">Where it lies.</param>
    /// <param name="name">Its file name.</param>
    /// <exception cref="VembarException">It is not the INF of a driver.</exception>
    public static DriverPackage Read(InfFile inf, string folder, string name)
    {
        string Version(string key) => inf.Line("Version", key) is { } line ? inf.Expand(line.Value(0)) : "";
        if (!inf.Has("Version"))
            throw VembarException.Input("bad-inf", $"'{inf.Shown}' has no [Version] section", "Is it the INF of a driver?");
        if (!(Version("Signature").ToUpperInvariant() is "$WINDOWS NT$" or "$CHICAGO$"))
            throw VembarException.Input("bad-inf", $"'{inf.Shown}' has the signature '{Version("Signature")}'; \"$WINDOWS NT$\" is wanted", "Is it the INF of a driver?");
        var line = inf.Line("Version", "DriverVer");
        DateOnly.TryParseExact(line?.Value(0), ["MM/dd/yyyy", "M/d/yyyy", "MM-dd-yyyy"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var date);
        var decorations = inf.Section("Manufacturer").SelectMany(m => m.Values.Skip(1)).Select(TargetOs.Parse).ToList();
        return new DriverPackage(inf, folder, name)
        {
            Class = Version("Class"),
            ClassGuid = Guid.TryParse(Version("ClassGuid"), out var guid) ? guid : Guid.Empty,
            Provider = Version("Provider"),
            Date = date,
            Version = ParseVersion(line?.Value(1) ?? ""),
            Architectures = [.. decorations.Select(d => d.Architecture).Where(a => a.Length > 0).Distinct().Order(StringComparer.Ordinal)],
        };
    }

    private static Version ParseVersion(string text)
    {
        var parts = text.Split('.').Select(p => ushort.TryParse(p, CultureInfo.InvariantCulture, out var n) ? n : (ushort)0).Concat(new ushort[4]).Take(4).ToArray();
        return new Version(parts[0], parts[1], parts[2], parts[3]);
    }

    /// <summary>The same package as an image sees it: with the devices, services and files that are for it.</summary>
    /// <param name="architecture">amd64, arm64 or x86.</param>
    /// <param name="major">Windows' major version.</param>
    /// <param name="build">Its build.</param>
    /// <param name="server">Whether it is a server.</param>
    /// <exception cref="VembarException">The INF contradicts itself.</exception>
    public DriverPackage For(string architecture, int major, int build, bool server)
    {
        var package = new DriverPackage(Inf, _folder, InfName)
        {
            Class = Class,
            ClassGuid = ClassGuid,
            Provider = Provider,
            Date = Date,
            Version = Version,
            Architectures = Architectures,
        };
        var devices = new List<DriverDevice>();
        foreach (var manufacturer in Inf.Section("Manufacturer"))
        {
            var plain = manufacturer.Value(0);
            var fitting = manufacturer.Values.Skip(1).Select(TargetOs.Parse).Where(t => t.Fits(architecture, major, build, server)).OrderByDescending(t => t).FirstOrDefault();
            // Undecorated models are for x86 alone, unless the INF knows no other.
            var section = fitting is not null ? $"{plain}.{fitting.Text}" : Architectures.Count == 0 || architecture == "x86" ? plain : null;
            foreach (var model in section is null ? [] : Inf.Section(section))
            {
                if (model.Key is null || model.Values.Count < 2)
                    continue;
                devices.Add(new DriverDevice(
                    Inf.Expand(model.Key), Inf.Expand(manufacturer.Key ?? manufacturer.Value(0)), Decorated(model.Value(0), architecture, ""), [.. model.Values.Skip(1).Select(Inf.Expand).Where(i => i.Length > 0)]));
            }
        }
        package.Devices = devices;
        package.Catalog = ((string[])[$"CatalogFile.nt{architecture}", "CatalogFile.nt", "CatalogFile"]).Select(k => Inf.Line("Version", k)).FirstOrDefault(l => l is not null) is { } catalog ? Inf.Expand(catalog.Value(0)) : "";
        var sections = devices.Select(d => d.InstallSection).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        package.Services = sections.ToDictionary(s => s, ReadServices, StringComparer.OrdinalIgnoreCase);
        package.Copies = [.. sections.SelectMany(s => ReadCopies(s, architecture)).Distinct()];
        return package;
    }

    private string Decorated(string section, string architecture, string suffix) =>
        ((string[])[$"{section}.NT{architecture}{suffix}", $"{section}.NT{suffix}", section + suffix]).FirstOrDefault(Inf.Has) ?? section + suffix;

    private IReadOnlyList<DriverService> ReadServices(string installSection)
    {
        // The decoration stands before the suffix and is part of the section's name already.
        var services = new List<DriverService>();
        foreach (var line in Inf.Section(installSection + ".Services").Where(l => "AddService".Equals(l.Key, StringComparison.OrdinalIgnoreCase)))
        {
            var name = Inf.Expand(line.Value(0));
            var section = line.Value(2);
            if (name.Length == 0 || section.Length == 0)
                continue;
            string Text(string key) => Inf.Line(section, key) is { } l ? Inf.Expand(l.Value(0)) : "";
            uint Number(string key, uint otherwise) => Text(key) is { Length: > 0 } text ? ParseNumber(text) ?? throw Bad($"{key}={text} in [{section}] is not a number") : otherwise;
            services.Add(new DriverService(
                name, Text("DisplayName"), Number("ServiceType", 1), Number("StartType", 3), Number("ErrorControl", 1), Text("ServiceBinary"), Text("LoadOrderGroup"),
                ((ParseNumber(Inf.Expand(line.Value(1))) ?? 0) & 2) != 0, ReadRegistry(section)));
        }
        return services;
    }

    private List<DriverRegistryValue> ReadRegistry(string section)
    {
        var values = new List<DriverRegistryValue>();
        foreach (var list in Inf.Section(section).Where(l => "AddReg".Equals(l.Key, StringComparison.OrdinalIgnoreCase)).SelectMany(l => l.Values))
        {
            foreach (var line in Inf.Section(list).Where(l => l.Value(0).Equals("HKR", StringComparison.OrdinalIgnoreCase)))
            {
                var flags = ParseNumber(Inf.Expand(line.Value(3))) ?? 0;
                var data = line.Values.Skip(4).Select(Inf.Expand).ToList();
                var (type, bytes) = Value(flags, data);
                values.Add(new DriverRegistryValue(Inf.Expand(line.Value(1)), Inf.Expand(line.Value(2)), type, bytes));
            }
        }
        return values;
    }

    private (RegistryType, byte[]) Value(uint flags, List<string> data)
    {
        const uint TypeMask = 0xFFFF0001, MultiString = 0x10000, ExpandString = 0x20000, Dword = 0x10001, Binary = 0x1, NoValue = 0x20001;
        static byte[] Utf16(string text) => System.Text.Encoding.Unicode.GetBytes(text);
        var first = data.Count > 0 ? data[0] : "";
        return (flags & TypeMask) switch
        {
            MultiString => (RegistryType.MultiString, Utf16(string.Concat(data.Select(d => d + "\0")) + "\0")),
            ExpandString => (RegistryType.ExpandString, Utf16(first + "\0")),
            Dword => (RegistryType.Dword, BitConverter.GetBytes(ParseNumber(first) ?? throw Bad($"'{first}' is not a number"))),
            Binary => (RegistryType.Binary, [.. data.Where(d => d.Length > 0).Select(d => byte.TryParse(d, NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var b) ? b : throw Bad($"'{d}' is not a byte"))]),
            NoValue => (RegistryType.None, []),
            _ => (RegistryType.String, Utf16(first + "\0")),
        };
    }

    private static uint? ParseNumber(string text)
    {
        text = text.Trim();
        if (text.StartsWith("0x", StringComparison.OrdinalIgnoreCase))
            return uint.TryParse(text.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : null;
        return uint.TryParse(text, CultureInfo.InvariantCulture, out var number) ? number : null;
    }

    private VembarException Bad(string problem) => VembarException.Input("bad-inf", $"'{Inf.Shown}': {problem}", "Take the driver package from its vendor again.");

    private IEnumerable<DriverCopy> ReadCopies(string installSection, string architecture)
    {
        foreach (var list in Inf.Section(installSection).Where(l => "CopyFiles".Equals(l.Key, StringComparison.OrdinalIgnoreCase)).SelectMany(l => l.Values))
        {
            if (list.StartsWith('@'))
            {
                var (id, folder) = Destination("DefaultDestDir");
                yield return Copy(Inf.Expand(list[1..]), Inf.Expand(list[1..]), id, folder, architecture);
                continue;
            }
            foreach (var line in Inf.Section(list))
            {
                var target = Inf.Expand(line.Value(0));
                var source = Inf.Expand(line.Value(1));
                if (target.Length == 0)
                    continue;
                var (id, folder) = Destination(list);
                yield return Copy(source.Length > 0 ? source : target, target, id, folder, architecture);
            }
        }
    }

    private (string Id, string Folder) Destination(string list)
    {
        var line = Inf.Line("DestinationDirs", list) ?? Inf.Line("DestinationDirs", "DefaultDestDir");
        return line is null ? ("11", "") : (line.Value(0), Inf.Expand(line.Value(1)));
    }

    private DriverCopy Copy(string source, string target, string id, string folder, string architecture)
    {
        var line = Inf.Line($"SourceDisksFiles.{architecture}", source) ?? Inf.Line("SourceDisksFiles", source);
        var path = source;
        if (line is not null)
        {
            var disk = Inf.Line($"SourceDisksNames.{architecture}", line.Value(0)) ?? Inf.Line("SourceDisksNames", line.Value(0));
            path = string.Join('/', new[] { disk is null ? "" : Inf.Expand(disk.Value(3)), Inf.Expand(line.Value(1)), source }.Where(p => p.Length > 0));
        }
        return new DriverCopy(Inside(path), id, Inside(folder.Length > 0 ? $"{folder}/{target}" : target));
    }

    // What an INF names must stay in the package and in the target folder.
    private string Inside(string path)
    {
        var parts = path.Split(['\\', '/'], StringSplitOptions.RemoveEmptyEntries).Where(p => p != ".").ToArray();
        if (parts.Length == 0 || parts.Any(p => p == ".." || !Trees.WindowsPath.IsUsableName(p)))
            throw Bad($"'{path}' is not a path inside of the package");
        return string.Join('/', parts);
    }

    /// <summary>The path outside of a file of the package, looked for without regard to case; null when it is missing.</summary>
    public string? Locate(string file)
    {
        var at = _folder;
        foreach (var part in file.Split('/'))
        {
            var exact = Path.Combine(at, part);
            var next = Path.Exists(exact) ? exact
                : Directory.Exists(at) ? Directory.EnumerateFileSystemEntries(at).FirstOrDefault(e => Path.GetFileName(e).Equals(part, StringComparison.OrdinalIgnoreCase)) : null;
            if (next is null)
                return null;
            at = next;
        }
        return File.Exists(at) ? at : null;
    }

    /// <summary>The name of its folder in the driver store: INF name, architecture, and 16 digits that stand for its content.</summary>
    /// <param name="architecture">amd64, arm64 or x86.</param>
    /// <param name="contents">The files' hashes in the order of <see cref="Files"/>.</param>
    public string StoreFolder(string architecture, IEnumerable<ChunkId> contents)
    {
        var all = new BinaryFormatWriter();
        foreach (var (file, id) in Files.Zip(contents))
            all.Text(file.ToUpperInvariant()).Id(id);
        return $"{InfName.ToLowerInvariant()}_{architecture}_{Blake3.Hash(all.Written).ToString()[..16]}";
    }
}

/// <summary>The decoration of a models section: which Windows it is for.</summary>
/// <param name="Text">As it stands.</param>
/// <param name="Architecture">x86, amd64, arm64, or empty for any.</param>
/// <param name="Major">Least major version; 0 for any.</param>
/// <param name="Minor">Least minor version.</param>
/// <param name="ProductType">1 client, 2 and 3 server, 0 any.</param>
/// <param name="Build">Least build; 0 for any.</param>
public sealed record TargetOs(string Text, string Architecture, int Major, int Minor, int ProductType, int Build) : IComparable<TargetOs>
{
    /// <summary>Reads NT[arch][.[major][.[minor][.[productType][.[suiteMask][.[build]]]]]].</summary>
    public static TargetOs Parse(string text)
    {
        text = text.Trim();
        var parts = text.Split('.');
        int Number(int index)
        {
            var part = index < parts.Length ? parts[index].Trim() : "";
            if (part.StartsWith("0x", StringComparison.OrdinalIgnoreCase))
                return int.TryParse(part.AsSpan(2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var hex) ? hex : 0;
            return int.TryParse(part, CultureInfo.InvariantCulture, out var number) ? number : 0;
        }
        var architecture = parts[0].StartsWith("NT", StringComparison.OrdinalIgnoreCase) ? parts[0][2..].ToLowerInvariant() : parts[0].ToLowerInvariant();
        return new TargetOs(text, architecture, Number(1), Number(2), Number(3), Number(5));
    }

    /// <summary>Whether a Windows satisfies it.</summary>
    public bool Fits(string architecture, int major, int build, bool server) =>
        (Architecture.Length == 0 || Architecture == architecture) && Major <= major && (Major < major || Minor == 0)
        && (ProductType == 0 || ProductType == 1 != server) && Build <= build;

    /// <summary>The more specific one is greater.</summary>
    public int CompareTo(TargetOs? other) => other is null ? 1
        : (Architecture.Length > 0, Major, Minor, ProductType != 0, Build).CompareTo((other.Architecture.Length > 0, other.Major, other.Minor, other.ProductType != 0, other.Build));

    /// <summary>Order by how specific.</summary>
    public static bool operator <(TargetOs a, TargetOs b) => a.CompareTo(b) < 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator >(TargetOs a, TargetOs b) => a.CompareTo(b) > 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator <=(TargetOs a, TargetOs b) => a.CompareTo(b) <= 0;

    /// <summary>Order by how specific.</summary>
    public static bool operator >=(TargetOs a, TargetOs b) => a.CompareTo(b) >= 0;
}

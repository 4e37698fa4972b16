using System.Globalization;
using Vembar.Common;
using Vembar.Images.Paths;
using Vembar.Store.Format;
using Vembar.Store.Hashing;
using Vembar.Windows.Registry;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver package as one Windows sees it: with the devices, services and files that are for it.</summary>
/// <remarks>Source: the vendor's driver documentation on the INF Models, DDInstall, CopyFiles, DelFiles, RenFiles, SourceDisksNames,
/// SourceDisksFiles, DestinationDirs and AddService.</remarks>
public sealed class FittedDriver
{
    /// <summary>The section that installs what is for no device.</summary>
    internal const string PrimitiveSection = "DefaultInstall";

    private const int MostLines = 200_000;

    // Classes without which Windows does not reach its own disk.
    private static readonly HashSet<Guid> s_bootClasses =
    [
        new("4d36e97b-e325-11ce-bfc1-08002be10318"), new("4d36e96a-e325-11ce-bfc1-08002be10318"),
        new("4d36e97d-e325-11ce-bfc1-08002be10318"),
        new("71a27cdd-812a-11d0-bec7-08002be2092f"), new("4d36e967-e325-11ce-bfc1-08002be10318"),
        new("4d36e96b-e325-11ce-bfc1-08002be10318"),
        new("4d36e96f-e325-11ce-bfc1-08002be10318"), new("36fc9e60-c465-11cf-8056-444553540000"),
    ];

    // What only a running Windows does: the keyword in an install section, and what it is in words.
    private static readonly (string Keyword, string Words)[] s_leftToWindows =
    [
        ("DelFiles", "files to remove"), ("RenFiles", "files to rename"), ("AddProperty", "device properties"),
        ("DelProperty", "device properties"), ("RegisterDlls", "DLLs to register"), ("UnregisterDlls", "DLLs to unregister"),
        ("UpdateInis", "changes to .ini files"), ("UpdateIniFields", "changes to .ini files"), ("Ini2Reg", "changes from .ini files"),
        ("BitReg", "bits in the registry"), ("LogConfig", "resource settings"),
        ("ProfileItems", "start menu entries"), ("Reboot", "a restart"), ("ExcludeID", "devices that it is not for"),
    ];

    // The same of the sections that stand beside an install section.
    private static readonly (string Section, string Keyword, string Words)[] s_besideLeftToWindows =
    [
        (".Components", "AddComponent", "components"), (".Software", "AddSoftware", "software of a component"),
        (".Filters", "AddFilter", "filters"), (".Interfaces", "AddInterface", "device interfaces"),
        (".Events", "AddEventProvider", "event providers"), (".Events", "AddAutoLogger", "event loggers"),
        (".Events", "UpdateAutoLogger", "event loggers"), (".Services", "DelService", "services to remove"),
        (".WMI", "WMIInterface", "WMI classes"), (".COM", "AddComServer", "COM servers"), (".COM", "AddComClass", "COM classes"),
        (".LogConfigOverride", "LogConfig", "resource settings"), (".HW", "AddProperty", "device properties"),
    ];

    // What stands in the section of a service.
    private static readonly (string Keyword, string Words)[] s_serviceLeftToWindows =
        [("AddTrigger", "triggers of services"), ("FailureActions", "what is done when a service fails"),
        ("Security", "rights of services")];

    private readonly Func<string, InfFile?> _include;
    private readonly InfFile _inf;
    private readonly HashSet<string> _missingIncludes = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, InfFile?> _included = new(StringComparer.OrdinalIgnoreCase);
    private int _lines;

    internal FittedDriver(DriverPackage package, WindowsTarget windows, Func<string, InfFile?> include)
    {
        Package = package;
        Windows = windows;
        _include = include;
        _inf = package.Inf.In(windows.Language);
        Devices = ReadModels();
        Catalog = ((string[])[$"CatalogFile.nt{windows.Architecture}", "CatalogFile.nt",
            "CatalogFile"]).Select(k => _inf.Line("Version", k)).FirstOrDefault(l => l is not null) is { } catalog
            ? Inside("Version", catalog, _inf.Expand(catalog.Value(0))) : "";
        // Without models it is no device's driver; a filter or a service of its own is installed by this section.
        var primitive = Decorated(_inf, PrimitiveSection);
        var isPrimitive = package.DeviceCount == 0 && _inf.Has(primitive);
        Sections = Devices.Select(d => d.InstallSection).Concat(isPrimitive ? [primitive] : []).Distinct(StringComparer.OrdinalIgnoreCase)
            .ToDictionary(s => s, ReadSection, StringComparer.OrdinalIgnoreCase);
        CopiedInfs = [.. Sections.Keys.SelectMany(CopiedBy).Distinct(StringComparer.OrdinalIgnoreCase)];
        Copies = [.. Sections.Values.SelectMany(s => s.Copies).Distinct()];
        Services = [.. Sections.Values.SelectMany(s => s.Services).DistinctBy(s => s.Name, StringComparer.OrdinalIgnoreCase)];
        IsPrimitive = isPrimitive && Services.Count > 0;
        // A catalog that is not there makes a package one that nobody signed, not one that lacks a file.
        Files = [.. new[] { package.InfName }.Concat(Catalog.Length > 0 && package.Folder.Length(Catalog) is not null ? [Catalog] : [])
            .Concat(Copies.Select(c => c.Source)).Distinct(StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>The package.</summary>
    public DriverPackage Package { get; }

    /// <summary>The Windows.</summary>
    public WindowsTarget Windows { get; }

    /// <summary>The devices.</summary>
    public IReadOnlyList<DriverDevice> Devices { get; }

    /// <summary>The install sections that the devices name.</summary>
    public IReadOnlyDictionary<string, InstallSection> Sections { get; }

    /// <summary>Services that they need.</summary>
    public IReadOnlyList<DriverService> Services { get; }

    /// <summary>Files that are copied.</summary>
    public IReadOnlyList<DriverCopy> Copies { get; }

    /// <summary>The security catalog's name; empty when none is named.</summary>
    public string Catalog { get; }

    /// <summary>Every file of the package, by its path below the folder: the INF, the catalog, what is copied.</summary>
    public IReadOnlyList<string> Files { get; }

    /// <summary>INF files that it includes and that were not found.</summary>
    public IReadOnlyCollection<string> MissingIncludes => _missingIncludes;

    /// <summary>What it asks for that only a running Windows can do; each once.</summary>
    public IReadOnlyList<string> LeftToWindows =>
        [.. Sections.Values.SelectMany(s => s.LeftToWindows)
        .Concat(IsPrimitive && Sections.Values.Any(s => s.Edits.Count > 0) ? ["changes to the registry"] : []).Distinct()];

    /// <summary>INF files of its folder that come into the image with it, each as a package of its own.</summary>
    public IReadOnlyList<string> CopiedInfs { get; }

    /// <summary>Whether it is for no device, but a filter or a service that is installed by itself.</summary>
    public bool IsPrimitive { get; }

    /// <summary>Whether its files and services are installed with it; those of others are when Windows meets their device.</summary>
    public bool IsInstalled => IsBootCritical || IsPrimitive;

    /// <summary>Whether Windows needs it to start.</summary>
    public bool IsBootCritical => s_bootClasses.Contains(Package.ClassGuid) || Services.Any(s => s.Start == 0);

    /// <summary>Files that it names and that are not in its folder.</summary>
    public IReadOnlyList<string> MissingFiles => [.. Files.Where(f => Package.Folder.Length(f) is null)];

    /// <summary>Bytes of all its files that are there.</summary>
    public long Bytes => Files.Sum(f => Package.Folder.Length(f) ?? 0);

    /// <summary>The name of its folder in the driver store: INF name, architecture, and 16 digits that stand for its content.</summary>
    /// <exception cref="VembarException">A file is missing.</exception>
    public string StoreFolder()
    {
        var all = new BinaryFormatWriter();
        foreach (var file in Files)
        {
            using var stream = Package.Folder.Open(file);
            var hash = new Blake3();
            var buffer = new byte[1 << 18];
            for (int got; (got = stream.Read(buffer)) > 0;)
                hash.Append(buffer.AsSpan(0, got));
            all.Text(file.ToUpperInvariant()).Id(hash.Finish());
        }
        return $"{Package.InfName.ToLowerInvariant()}_{Windows.Architecture}_{Blake3.Hash(all.Written).ToString()[..16]}";
    }

    private List<DriverDevice> ReadModels()
    {
        var devices = new List<DriverDevice>();
        foreach (var manufacturer in _inf.Section("Manufacturer"))
        {
            // "name = section, decorations", or the section's name alone.
            var plain = _inf.Expand(manufacturer.Value(0));
            var fitting = manufacturer.Values.Skip(1).Where(v => v.Length > 0).Select(TargetOs.Parse).Where(t => t.Fits(Windows))
                .OrderByDescending(t => t).FirstOrDefault();
            var section = fitting is not null ? $"{plain}.{fitting.Text}" : Windows.Architecture == "x86" ? plain : null;
            foreach (var model in section is null ? [] : _inf.Section(section))
            {
                if (model.Key is null || model.Values.Count < 2)
                    continue;
                var ids = model.Values.Skip(1).Select(_inf.Expand).Where(i => i.Length > 0).ToList();
                if (ids.Find(i => i.Any(char.IsControl)) is { } bad)
                    throw _inf.Error(section!, model, $"'{bad}' is not a hardware id");
                devices.Add(new DriverDevice(_inf.Expand(model.Key), _inf.Expand(manufacturer.Key ?? manufacturer.Value(0)),
                    Decorated(_inf, _inf.Expand(model.Value(0))), ids));
            }
        }
        return devices;
    }

    private string Decorated(InfFile inf, string section) =>
        ((string[])[$"{section}.NT{Windows.Architecture}", $"{section}.NT", section]).FirstOrDefault(inf.Has) ?? section;

    // The lines of a section and of all that it needs, also from other files. A line belongs to the file that it stands in.
    private IEnumerable<(InfFile Inf, string Section, InfLine Line)> Lines(string section) => Lines(_inf, section, []);

    private IEnumerable<(InfFile Inf, string Section, InfLine Line)> Lines(InfFile inf, string section, List<(InfFile, string)> way)
    {
        var at = (inf, section.ToUpperInvariant());
        if (way.Contains(at))
            throw inf.Error(section, null,
                    $"its Needs lead in a circle: {string.Join(" → ", way.Append(at).Select(w => $"[{w.Item2}]"))}");
        way.Add(at);
        var included = new List<InfFile>();
        foreach (var line in inf.Section(section))
        {
            if (++_lines > MostLines)
                throw inf.Error(section, line, "its Needs bring in too much");
            yield return (inf, section, line);
            if (line.Is("Include"))
                included.AddRange(line.Values.Select(v => Included(inf.Expand(v))).OfType<InfFile>());
            if (!line.Is("Needs"))
                continue;
            foreach (var need in line.Values.Select(inf.Expand).Where(n => n.Length > 0))
            {
                foreach (var other in included.Append(inf))
                {
                    if (((string[])[need, $"{need}.NT{Windows.Architecture}", $"{need}.NT"]).FirstOrDefault(other.Has) is not { } found)
                        continue;
                    foreach (var more in Lines(other, found, way))
                        yield return more;
                    break;
                }
            }
        }
        way.RemoveAt(way.Count - 1);
    }

    private InfFile? Included(string name)
    {
        if (!_included.TryGetValue(name, out var inf))
        {
            inf = name.Equals(Package.InfName, StringComparison.OrdinalIgnoreCase) ? _inf : _include(name)?.In(Windows.Language);
            _included[name] = inf;
            if (inf is null)
                _missingIncludes.Add(name);
        }
        return inf;
    }

    private InstallSection ReadSection(string name)
    {
        var lines = Lines(name).ToList();
        // Files that belong to an included INF of Windows lie in Windows' own packages.
        var own = lines.Where(l => ReferenceEquals(l.Inf, _inf)).ToList();
        var left = s_leftToWindows.Where(w => lines.Exists(l => l.Line.Is(w.Keyword) || l.Line.IsWord(w.Keyword))).Select(w => w.Words)
            .Concat(s_besideLeftToWindows.Where(b => Lines(name + b.Section).Any(l => l.Line.Is(b.Keyword))).Select(b => b.Words))
            .Concat(Lines(name + ".CoInstallers").Any() ? ["a co-installer"] : Array.Empty<string>())
            .Concat(ServiceSections(name).SelectMany(s => s_serviceLeftToWindows.Where(w => s.Inf.Line(s.Section, w.Keyword) is not null))
                .Select(w => w.Words))
            .Where(w => w.Length > 0).ToList();
        var edits = Registry(lines);
        if (edits.Exists(e => e.Subkey.Contains(@"CurrentVersion\RunOnce", StringComparison.OrdinalIgnoreCase)))
            left.Add("commands for the next start (RunOnce)");
        if (edits.Exists(e => e.Name.ToUpperInvariant() is "ENUMPROPPAGES32" or "COINSTALLERS32" or "INSTALLER32"))
            left.Add("property pages or installers of its own");
        var score = own.Select(l => l.Line).FirstOrDefault(l => l.Is("FeatureScore"));
        return new InstallSection(name)
        {
            Copies = [.. ListedFiles(own, "CopyFiles").Distinct()],
            Deletes = [.. ListedFiles(own, "DelFiles").Distinct()],
            Renames = [.. ListedFiles(own, "RenFiles").Distinct()],
            Edits = edits,
            HardwareEdits = Registry([.. Lines(name + ".HW")]),
            Services = ReadServices(name + ".Services"),
            Components = [.. Components(name)],
            FeatureScore = score is null ? 255
            : byte.TryParse(_inf.Expand(score.Value(0)).Replace("0x", "", StringComparison.OrdinalIgnoreCase), NumberStyles.HexNumber,
            CultureInfo.InvariantCulture, out var number) ? number
                : throw _inf.Error(name, score, $"FeatureScore '{score.Value(0)}' is not one or two hexadecimal digits"),
            LeftToWindows = [.. left.Distinct()],
        };
    }

    private IEnumerable<string> CopiedBy(string section)
    {
        foreach (var (inf, at, line) in Lines(section).Where(l => l.Line.Is("CopyINF")))
        {
            foreach (var name in line.Values.Select(inf.Expand).Where(n => n.Length > 0))
                yield return Inside(at, line, name);
        }
    }

    private IEnumerable<(InfFile Inf, string Section)> ServiceSections(string name) =>
        Lines(name + ".Services").Where(l => l.Line.Is("AddService")).Select(l => (l.Inf, l.Inf.Expand(l.Line.Value(2))))
        .Where(s => s.Item2.Length > 0);

    // The ids of the components that come with a device. Where the INF names none, Windows makes one of the device's own.
    private IEnumerable<string> Components(string name)
    {
        foreach (var (inf, _, line) in Lines(name + ".Components").Where(l => l.Line.Is("AddComponent")))
        {
            var section = inf.Expand(line.Value(2));
            foreach (var id in (section.Length > 0 ? inf.Line(section, "ComponentIDs")?.Values : null) ?? [])
            {
                if (inf.Expand(id) is { Length: > 0 } text)
                    yield return $@"SWC\{text}";
            }
        }
    }

    private List<DriverService> ReadServices(string section)
    {
        var services = new List<DriverService>();
        foreach (var (inf, at, line) in Lines(section).Where(l => l.Line.Is("AddService")))
        {
            var name = inf.Expand(line.Value(0));
            var install = inf.Expand(line.Value(2));
            if (name.Length == 0 || install.Length == 0)
                continue;
            if (name.IndexOfAny(['\\', '/']) >= 0)
                throw inf.Error(at, line, $"'{name}' is not the name of a service");
            string Text(string key) => inf.Line(install, key) is { } l ? inf.Expand(l.Value(0)) : "";
            uint Number(string key, uint otherwise) => Text(key) is { Length: > 0 } text
                ? InfRegistry.Number(text) ?? throw inf.Error(install, inf.Line(install, key), $"{key}={text} is not a number") : otherwise;
            var events = inf.Expand(line.Value(3));
            var log = line.Value(4) is { Length: > 0 } givenLog ? inf.Expand(givenLog) : "System";
            var source = line.Value(5) is { Length: > 0 } givenSource ? inf.Expand(givenSource) : name;
            services.Add(new DriverService(
                name, Text("DisplayName"), Number("ServiceType", 1), Number("StartType", 3), Number("ErrorControl", 1),
                Text("ServiceBinary"), Text("LoadOrderGroup"),
                ((InfRegistry.Number(inf.Expand(line.Value(1))) ?? 0) & 2) != 0)
            {
                Description = Text("Description"),
                Dependencies = inf.Line(install, "Dependencies") is { } needs
                ? [.. needs.Values.Select(inf.Expand).Where(d => d.Length > 0)] : [],
                Edits = Registry([.. inf.Section(install).Select(l => (inf, install, l))]),
                EventEdits = events.Length > 0 ? Registry([.. inf.Section(events).Select(l => (inf, events, l))]) : [],
                EventLog = events.Length > 0 ? $@"{log}\{source}" : "",
            });
        }
        return services;
    }

    private static List<RegistryEdit> Registry(List<(InfFile Inf, string Section, InfLine Line)> lines)
    {
        var edits = new List<RegistryEdit>();
        foreach (var (inf, _, line) in lines)
        {
            if (line.Is("AddReg"))
                edits.AddRange(line.Values.Select(inf.Expand)
                    .SelectMany(list => inf.Section(list).Select(l => InfRegistry.ReadAdd(inf, list, l))));
            else if (line.Is("DelReg"))
                edits.AddRange(line.Values.Select(inf.Expand)
                    .SelectMany(list => inf.Section(list).Select(l => InfRegistry.ReadDelete(inf, list, l))));
        }
        return edits;
    }

    private IEnumerable<DriverCopy> ListedFiles(List<(InfFile Inf, string Section, InfLine Line)> lines, string keyword)
    {
        foreach (var (_, at, line) in lines.Where(l => l.Line.Is(keyword)))
        {
            foreach (var list in line.Values.Select(_inf.Expand).Where(l => l.Length > 0))
            {
                if (list[0] == '@')
                {
                    if (!IsOfWindows(list[1..]))
                        yield return File(at, line, list[1..], list[1..], "DefaultDestDir", keyword);
                    continue;
                }
                foreach (var entry in _inf.Section(list))
                {
                    var target = _inf.Expand(entry.Value(0));
                    var source = _inf.Expand(entry.Value(1));
                    if (target.Length > 0 && !IsOfWindows(source.Length > 0 ? source : target))
                        yield return File(list, entry, source.Length > 0 ? source : target, target, list, keyword);
                }
            }
        }
    }

    // An INF that refers to Windows' own layout brings only the files that it lists itself.
    private bool IsOfWindows(string source) => _inf.Line("Version", "LayoutFile") is not null && Place(source) is null;

    private InfLine? Place(string source) =>
        _inf.Line($"SourceDisksFiles.{Windows.Architecture}", source) ?? _inf.Line("SourceDisksFiles", source);

    private DriverCopy File(string section, InfLine line, string source, string target, string list, string keyword)
    {
        var destination = _inf.Line("DestinationDirs", list) ?? _inf.Line("DestinationDirs", "DefaultDestDir");
        var (id, folder) = destination is null ? ("11", "") : (_inf.Expand(destination.Value(0)), _inf.Expand(destination.Value(1)));
        var path = source;
        if (keyword == "CopyFiles" && Place(source) is { } place)
        {
            var number = _inf.Expand(place.Value(0));
            var disk = _inf.Line($"SourceDisksNames.{Windows.Architecture}", number) ?? _inf.Line("SourceDisksNames", number);
            path = string.Join('/',
                new[] { disk is null ? "" : _inf.Expand(disk.Value(3)), _inf.Expand(place.Value(1)), source }.Where(p => p.Length > 0));
        }
        return new DriverCopy(Inside(section, line, path), id, Inside(section, line, folder.Length > 0 ? $"{folder}/{target}" : target));
    }

    // What an INF names must stay in the package and in the target folder.
    private string Inside(string section, InfLine line, string path)
    {
        var parts = path.Split(['\\', '/'], StringSplitOptions.RemoveEmptyEntries).Where(p => p != ".").ToArray();
        if (parts.Length == 0 || parts.Any(p => p == ".." || !WindowsPath.IsUsableName(p)))
            throw _inf.Error(section, line, $"'{path}' is not a path inside of the package");
        return string.Join('/', parts);
    }
}

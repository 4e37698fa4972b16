using System.Globalization;
using Vembar.Common;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Windows.Install;
using Vembar.Windows.Registry;
using Vembar.Windows.Servicing.Folders;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>The driver store of an image that is serviced: packages staged in it, registered, and taken out again.</summary>
/// <remarks>
/// The layout has no vendor documentation; it rests on what open-source virtual machine converters publish and write. What is
/// taken out is undone as its INF says it was done.
/// </remarks>
public sealed class DriverStore
{
    private const string StorePath = "System32/DriverStore/FileRepository";
    private const int FirstBuildWithDatabase = 9200, MostPublished = 10_000;

    private readonly ServiceContext _context;
    private readonly RegistryHive _system;
    private readonly Dictionary<string, FittedDriver?> _fitted = new(StringComparer.OrdinalIgnoreCase);
    private List<ListedDriver>? _all;
    private List<ListedDriver>? _listed;
    private HashSet<int>? _taken;

    private DriverStore(ServiceContext context, RegistryHive system, WindowsTarget windows)
    {
        _context = context;
        _system = system;
        Windows = windows;
    }

    /// <summary>The image's Windows.</summary>
    public WindowsTarget Windows { get; }

    /// <summary>Opens the store of the image.</summary>
    /// <returns>The store, or null with the reason.</returns>
    public static (DriverStore? Store, Notice Why) Open(ServiceContext context)
    {
        if (context.Install is not { } install)
            return (null, "the image holds no Windows");
        if (WindowsTarget.Of(install) is not { } windows)
            return (null, "the image does not say which architecture it is for");
        if (install.BuildNumber is > 0 and < FirstBuildWithDatabase)
            return (null, new Notice($"build {install.Build} is older than Windows 8, which has no driver database",
                Advice.Of("driver-path")));
        if (context.Hive("SYSTEM") is not { } system || !DriverDatabase.IsIn(system))
            return (null, "the image's SYSTEM hive has no driver database");
        return (new DriverStore(context, system, windows), "");
    }

    /// <summary>All packages, also those that came with Windows. There are many of these, so they are read once.</summary>
    public IReadOnlyList<ListedDriver> All => _all ??= [.. DriverDatabase.Read(_system, inbox: true)];

    /// <summary>The added packages, by their numbers.</summary>
    public IReadOnlyList<ListedDriver> Listed => _listed ??= [.. DriverDatabase.Read(_system)];

    /// <summary>Finds an INF that another one includes: those of Windows itself.</summary>
    public InfFile? Include(string name)
    {
        var path = name.IndexOfAny(['/', '\\']) < 0 && WindowsPath.IsUsableName(name) ? _context.Windows($"INF/{name}") : null;
        return path is not null && _context.Tree.ReadFile(path, InfFile.Longest) is { } bytes ? InfFile.Parse(bytes, path.ToString())
            : null;
    }

    /// <summary>A listed package as its INF in the store describes it; null when that cannot be read.</summary>
    public FittedDriver? Fit(ListedDriver listed)
    {
        if (_fitted.TryGetValue(listed.StoreFolder, out var known))
            return known;
        FittedDriver? fitted = null;
        if (listed.StoreFolder.Length > 0)
        {
            try
            {
                var found = Locate(listed, $"{_context.Windows($"{StorePath}/{listed.StoreFolder}")}/{listed.OriginalInf}");
                if (found.Folder.Length(found.Name) is not null)
                    fitted = DriverPackage.Read(found).For(Windows, Include);
            }
            catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
            {
                // What cannot be read cannot be asked what it brought.
            }
        }
        return _fitted[listed.StoreFolder] = fitted;
    }

    /// <summary>The INF of a listed package in the store.</summary>
    /// <param name="listed">The package.</param>
    /// <param name="displayName">What it is, for messages.</param>
    public FoundInf Locate(ListedDriver listed, string displayName)
    {
        var folder = new StoredPackageFolder(_context.Tree, _context.Windows($"{StorePath}/{listed.StoreFolder}"));
        return new FoundInf(folder, listed.OriginalInf.Length > 0 ? listed.OriginalInf : listed.Inf, displayName);
    }

    /// <summary>Whether a package is staged and registered: its published name, or null.</summary>
    public ListedDriver? Find(string storeFolder) =>
        Listed.FirstOrDefault(d => d.StoreFolder.Equals(storeFolder, StringComparison.OrdinalIgnoreCase)) is { } listed
        && _context.Tree.Exists(_context.Windows($"{StorePath}/{storeFolder}")) ? listed : null;

    /// <summary>Why a package cannot go in; null when it can.</summary>
    public string? Conflict(FittedDriver driver)
    {
        if (!driver.IsInstalled)
            return null;
        foreach (var (path, source) in Placed(driver))
        {
            switch (_context.Tree.Find(path)?.Entry)
            {
                case { Kind: EntryKind.Folder }:
                    return $"'{path}' is a folder in the image, a driver file was to be put there";
                case { } when !IsSame(path, driver, source)
                    && OwnersOf(path, null).FirstOrDefault(o => o.Driver.Package.Line != driver.Package.Line) is { Driver: not null } owner:
                    return $"'{path}' is another file, which {owner.Listed.Inf} ({owner.Listed.OriginalInf}) put there";
            }
        }
        var twice = Placed(driver).GroupBy(p => p.Path.ToString(), StringComparer.OrdinalIgnoreCase)
            .FirstOrDefault(g => g.Select(p => p.Source).Distinct(StringComparer.OrdinalIgnoreCase).Count() > 1);
        if (twice is not null)
            return $"it copies {string.Join(" and ", twice.Select(p => p.Source))} both to '{twice.Key}'";
        foreach (var service in driver.Services)
        {
            if (Binary(service, "") is null)
                return $"its service '{service.Name}' has the binary '{service.Binary}', which has no place in an offline install";
            if (Services.Key(service.Name) is { } key && key.GetStrings("Owners") is null
                && !All.Any(d => d.Services.Contains(service.Name, StringComparer.OrdinalIgnoreCase)))
                return $"the image has a service '{service.Name}' that belongs to no driver";
        }
        return null;
    }

    /// <summary>Stages and registers a package.</summary>
    /// <returns>The name it is published under.</returns>
    /// <exception cref="VembarException">A file is missing, or every published name is taken.</exception>
    public string Add(FittedDriver driver, string storeFolder)
    {
        var published = NextName();
        var store = _context.Windows($"{StorePath}/{storeFolder}");
        foreach (var file in driver.Files)
            _context.Tree.PutFile(file.Split('/').Aggregate(store, (at, part) => at.Child(part)), driver.Package.Folder.Content(file));
        _context.Tree.PutFile(_context.Windows($"INF/{published}"), driver.Package.Folder.Content(driver.Package.InfName));
        foreach (var hive in Databases())
            DriverDatabase.Register(hive, driver, published, storeFolder);
        Note(published);
        if (driver.IsInstalled)
        {
            foreach (var (path, source) in Placed(driver))
            {
                if (!IsSame(path, driver, source))
                    _context.Tree.PutFile(path, driver.Package.Folder.Content(source));
            }
            foreach (var service in driver.Services)
                Install(service, published, storeFolder);
        }
        return published;
    }

    /// <summary>Takes a package out: its files, its registration, and what it installed that no other package needs.</summary>
    /// <returns>Bytes that the image holds less.</returns>
    public long Remove(ListedDriver listed)
    {
        var bytes = 0L;
        void Away(WindowsPath path)
        {
            if (_context.Tree.Find(path) is { } node)
                bytes += _context.Tree.Remove(node).Bytes;
        }
        var driver = Fit(listed);
        foreach (var (path, source) in driver is { IsInstalled: true } ? Placed(driver) : [])
        {
            if (!_context.Tree.Exists(path) || !IsSame(path, driver!, source))
                continue;
            // Another package that puts a file there gets its own back.
            if (OwnersOf(path, listed.Inf).OrderByDescending(o => (o.Driver.Package.Date, o.Driver.Package.Version))
                .FirstOrDefault() is { Driver: { } other, Source: var theirs })
                _context.Tree.PutFile(path, other.Package.Folder.Content(theirs));
            else
                Away(path);
        }
        foreach (var service in driver?.IsInstalled == true ? driver.Services : [])
            Release(service, listed);
        foreach (var hive in Databases())
            DriverDatabase.Unregister(hive, listed);
        Note(listed.Inf);
        if (listed.StoreFolder.Length > 0)
            Away(_context.Windows($"{StorePath}/{listed.StoreFolder}"));
        Away(_context.Windows($"INF/{listed.Inf}"));
        Away(_context.Windows($"INF/{Path.ChangeExtension(listed.Inf, ".pnf")}"));
        _context.UnsignedDrivers.RemoveAll(u => u.Inf.Equals(listed.Inf, StringComparison.OrdinalIgnoreCase));
        return bytes;
    }

    private IEnumerable<RegistryHive> Databases()
    {
        _context.MarkModified("SYSTEM");
        yield return _system;
        if (_context.Hive("DRIVERS") is { } drivers && DriverDatabase.IsIn(drivers))
        {
            _context.MarkModified("DRIVERS");
            yield return drivers;
        }
    }

    // Both lists as the hive has them after a change of one package.
    private void Note(string inf)
    {
        var now = DriverDatabase.Find(_system, inf);
        foreach (var list in (List<ListedDriver>?[])[_all, _listed])
        {
            list?.RemoveAll(l => l.Inf.Equals(inf, StringComparison.OrdinalIgnoreCase));
            var number = DriverDatabase.Number(inf);
            if (now is not null)
                list?.Insert(list.FindIndex(l => DriverDatabase.Number(l.Inf) > number) is var at and >= 0 ? at : list.Count, now);
        }
        if (now is null)
            _taken = null;
    }

    // The lowest number that is free in both places that know them.
    private string NextName()
    {
        _taken ??= [.. _context.Tree.Names(_context.Windows("INF")).Select(n => DriverDatabase.Number(Path.ChangeExtension(n, ".inf"))),
            .. Listed.Select(d => DriverDatabase.Number(d.Inf))];
        for (var number = 0; number < MostPublished; number++)
        {
            if (_taken.Add(number))
                return string.Create(CultureInfo.InvariantCulture, $"oem{number}.inf");
        }
        throw VembarException.Input("drivers-full", $"the image has {MostPublished} added drivers; there is no name left",
            Advice.Of("drivers-full"));
    }

    // The path in the image for a directory id; null for those that have no place of their own offline.
    private WindowsPath? Directory(string id) => id switch
    {
        "10" or "16420" => _context.Windows(""),
        "11" or "16421" => _context.Windows("System32"),
        "12" => _context.Windows("System32/drivers"),
        "17" => _context.Windows("INF"),
        "18" => _context.Windows("Help"),
        "20" => _context.Windows("Fonts"),
        "21" => _context.Windows("System32/viewers"),
        "23" => _context.Windows("System32/spool/drivers/color"),
        "24" or "30" or "54" => WindowsPath.Root,
        "50" => _context.Windows("System"),
        "51" => _context.Windows("System32/spool"),
        "52" => _context.Windows($"System32/spool/drivers/{(Windows.Architecture == "amd64" ? "x64" : Windows.Architecture)}"),
        "55" => _context.Windows($"System32/spool/prtprocs/{(Windows.Architecture == "amd64" ? "x64" : Windows.Architecture)}"),
        "16419" => WindowsPath.Parse("ProgramData"),
        "16422" => WindowsPath.Parse("Program Files"),
        "16426" => WindowsPath.Parse("Program Files (x86)"),
        "16427" => WindowsPath.Parse("Program Files/Common Files"),
        "16428" => WindowsPath.Parse("Program Files (x86)/Common Files"),
        _ => null,
    };

    private IEnumerable<(WindowsPath Path, string Source)> Placed(FittedDriver driver)
    {
        foreach (var copy in driver.Copies)
        {
            if (Directory(copy.DirectoryId) is { } folder)
                yield return (copy.Target.Split('/').Aggregate(folder, (at, part) => at.Child(part)), copy.Source);
        }
    }

    private bool IsSame(WindowsPath path, FittedDriver driver, string source)
    {
        if (_context.Tree.Find(path)?.Entry is not { Kind: EntryKind.File } entry || entry.Length != driver.Package.Folder.Length(source))
            return false;
        return TreeFiles.IsSame(_context.Tree, path, driver.Package.Folder.Read(source));
    }

    // The added packages whose installed files go to a path.
    private IEnumerable<(ListedDriver Listed, FittedDriver Driver, string Source)> OwnersOf(WindowsPath path, string? but)
    {
        foreach (var listed in All.Where(d => !d.Inf.Equals(but, StringComparison.OrdinalIgnoreCase) && d.Services.Count > 0))
        {
            if (Fit(listed) is not { IsInstalled: true } driver)
                continue;
            foreach (var (placed, source) in Placed(driver))
            {
                if (placed.ToString().Equals(path.ToString(), StringComparison.OrdinalIgnoreCase))
                    yield return (listed, driver, source);
            }
        }
    }

    // ServiceBinary names its folder by a directory id between percent signs.
    private static string? Binary(DriverService service, string storeFolder)
    {
        var parts = service.Binary.Split('%');
        if (parts.Length != 3 || parts[0].Length > 0)
            return null;
        var folder = parts[1] switch
        {
            "10" => @"\SystemRoot",
            "11" => "System32",
            "12" => @"System32\drivers",
            "13" => @"System32\DriverStore\FileRepository\" + storeFolder,
            _ => null,
        };
        return folder is null ? null : folder + (parts[2].StartsWith('\\') ? "" : @"\") + parts[2];
    }

    private RegistryKey Services => WindowsInstall.ControlSet(_system)!.Ensure("Services");

    private void Install(DriverService service, string published, string storeFolder)
    {
        var key = Services.Ensure(service.Name);
        key.SetDword("Type", service.Type);
        key.SetDword("Start", service.Start);
        key.SetDword("ErrorControl", service.ErrorControl);
        key.SetString("ImagePath", Binary(service, storeFolder)!, RegistryType.ExpandString);
        if (service.DisplayName.Length > 0)
            key.SetString("DisplayName", service.DisplayName);
        if (service.Description.Length > 0)
            key.SetString("Description", service.Description);
        if (service.Group.Length > 0)
            key.SetString("Group", service.Group);
        var services = service.Dependencies.Where(d => d[0] != '+').ToList();
        var groups = service.Dependencies.Where(d => d[0] == '+').Select(d => d[1..]).ToList();
        if (services.Count > 0)
            key.SetStrings("DependOnService", services);
        if (groups.Count > 0)
            key.SetStrings("DependOnGroup", groups);
        key.SetStrings("Owners", (key.GetStrings("Owners") ?? []).Append(published).Distinct(StringComparer.OrdinalIgnoreCase));
        foreach (var edit in service.Edits.Where(e => e.Root == "HKR"))
            edit.Apply(key);
        if (service.EventLog.Length > 0)
        {
            var log = Services.Ensure($@"EventLog\{service.EventLog}");
            foreach (var edit in service.EventEdits.Where(e => e.Root == "HKR"))
                edit.Apply(log);
        }
    }

    private void Release(DriverService service, ListedDriver listed)
    {
        if (Services.Key(service.Name) is not { } key || key.GetStrings("Owners") is not { } owners
            || !owners.Contains(listed.Inf, StringComparer.OrdinalIgnoreCase))
            return;
        var others = owners.Where(o => !o.Equals(listed.Inf, StringComparison.OrdinalIgnoreCase)).ToList();
        key.Delete();
        if (service.EventLog.Length > 0)
        {
            Services.Key($@"EventLog\{service.EventLog}")?.Delete();
            // A log that was made for this source alone.
            if (Services.Key($@"EventLog\{service.EventLog.Split('\\')[0]}") is { } log && log.Values.Count == 0 && log.Subkeys.Count == 0)
                log.Delete();
        }
        // Whoever else has a service of that name gets it as its own INF says; the newest last, so that it stands.
        var heirs = All.Where(d => !d.Inf.Equals(listed.Inf, StringComparison.OrdinalIgnoreCase)
            && d.Services.Contains(service.Name, StringComparer.OrdinalIgnoreCase))
            .Select(d => (Listed: d, Driver: Fit(d))).Where(d => d.Driver is not null)
                .OrderBy(d => (d.Driver!.Package.Date, d.Driver.Package.Version));
        foreach (var (heir, driver) in heirs)
        {
            if (driver!.Services.FirstOrDefault(s => s.Name.Equals(service.Name, StringComparison.OrdinalIgnoreCase)) is { } theirs
                && Binary(theirs, heir.StoreFolder) is not null
                && (others.Contains(heir.Inf, StringComparer.OrdinalIgnoreCase) || DriverDatabase.Number(heir.Inf) < 0))
                Install(theirs, heir.Inf, heir.StoreFolder);
        }
    }
}

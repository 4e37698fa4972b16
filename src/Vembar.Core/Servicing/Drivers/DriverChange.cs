using Vembar.Core.Content;
using Vembar.Core.Trees;
using Vembar.Core.Windows;

namespace Vembar.Core.Servicing.Drivers;

/// <summary>Adds every driver package found below a folder to the image.</summary>
/// <param name="path">A folder, or an INF file.</param>
public sealed class DriverChange(string path) : IChange
{
    private const int FirstBuildWithDatabase = 9200;
    private const string StorePath = "System32/DriverStore/FileRepository";

    /// <inheritdoc/>
    public IEnumerable<ChangeOutcome> Apply(ServiceContext context)
    {
        IReadOnlyList<string> infs;
        try
        {
            infs = DriverPackage.FindInfs(path);
        }
        catch (VembarException problem)
        {
            return [new ChangeOutcome("driver", path, ChangeStatus.Refused, problem.Message)];
        }
        return [.. infs.Select(inf => AddOne(context, inf))];
    }

    private static ChangeOutcome AddOne(ServiceContext context, string inf)
    {
        ChangeOutcome Outcome(ChangeStatus status, string why) => new("driver", inf, status, why);
        try
        {
            return Add(context, inf, Outcome);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            return Outcome(ChangeStatus.Refused, problem.Message);
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "read the driver package", inf) is { } error)
        {
            return Outcome(ChangeStatus.Refused, error.Message);
        }
    }

    private static ChangeOutcome Add(ServiceContext context, string inf, Func<ChangeStatus, string, ChangeOutcome> outcome)
    {
        if (context.Install is not { } install)
            return outcome(ChangeStatus.Refused, "the image holds no Windows");
        var architecture = Answers.AnswerFile.ArchitectureWord(install.Architecture);
        if (architecture.Length == 0)
            return outcome(ChangeStatus.Refused, "the image does not say which architecture it is for");
        const int CurrentMajor = 10;
        var package = DriverPackage.Read(inf).For(architecture, CurrentMajor, install.BuildNumber, install.InstallType.StartsWith("Server", StringComparison.Ordinal));
        if (package.Devices.Count == 0)
        {
            return outcome(ChangeStatus.Refused, package.Architectures.Count > 0 && !package.Architectures.Contains(architecture)
                ? $"it is for {string.Join(" and ", package.Architectures)}; the image is {architecture}" : $"it has no device for {architecture}, build {install.Build}");
        }
        var missing = package.Files.Where(f => package.Locate(f) is null).ToList();
        if (missing.Count > 0)
            return outcome(ChangeStatus.Refused, $"files that the INF names are missing: {string.Join(", ", missing)}");
        if (install.BuildNumber > 0 && install.BuildNumber < FirstBuildWithDatabase)
            return outcome(ChangeStatus.Refused, $"build {install.Build} is older than Windows 8, which has no driver database");
        if (context.Hive("SYSTEM") is not { } system || !DriverDatabase.IsIn(system))
            return outcome(ChangeStatus.Refused, "the image's SYSTEM hive has no driver database");

        var contents = package.Files.Select(f => (Name: f, Bytes: File.ReadAllBytes(package.Locate(f)!))).ToList();
        var folder = package.StoreFolder(architecture, contents.Select(c => Blake3.Hash(c.Bytes)));
        var store = context.Windows($"{StorePath}/{folder}");
        var listed = DriverDatabase.Read(system).FirstOrDefault(d => d.StoreFolder.Equals(folder, StringComparison.OrdinalIgnoreCase));
        if (listed is not null && context.Tree.Exists(store))
            return outcome(ChangeStatus.Already, $"it is {listed.Inf}");
        if (Conflict(context, package, contents) is { } conflict)
            return outcome(ChangeStatus.Refused, conflict);

        var published = listed?.Inf ?? NextName(context, system);
        foreach (var (name, bytes) in contents)
            Put(context, name.Split('/').Aggregate(store, (at, part) => at.Child(part)), bytes);
        Put(context, context.Windows($"INF/{published}"), contents[0].Bytes);
        DriverDatabase.Register(system, package, architecture, published, folder);
        if (context.Hive("DRIVERS") is { } drivers && DriverDatabase.IsIn(drivers))
        {
            DriverDatabase.Register(drivers, package, architecture, published, folder);
            context.Touch("DRIVERS");
        }
        if (package.IsBootCritical)
            InstallServices(context, package, system, published, folder, contents);
        context.Touch("SYSTEM");
        var signed = package.Catalog.Length > 0 ? "" : "; it names no security catalog";
        return outcome(ChangeStatus.Done, $"{package.Provider} {package.Class} {package.Version}, {package.Devices.Count} device{(package.Devices.Count == 1 ? "" : "s")}, as {published}{(package.IsBootCritical ? ", boot-critical: service installed" : "")}; signature not checked{signed}");
    }

    private static void Put(ServiceContext context, WindowsPath path, byte[] bytes) => context.Tree.PutFile(path, new NewContent(bytes, null, bytes.Length));

    // The next free number in both places that know them.
    private static string NextName(ServiceContext context, RegistryHive system)
    {
        var highest = context.Tree.Names(context.Windows("INF")).Select(DriverDatabase.Number)
            .Concat(DriverDatabase.Read(system).Select(d => DriverDatabase.Number(d.Inf))).Append(-1).Max();
        return string.Create(System.Globalization.CultureInfo.InvariantCulture, $"oem{highest + 1}.inf");
    }

    /// <summary>The path in the image for a directory id; null for those that have no place of their own offline.</summary>
    private static WindowsPath? Directory(ServiceContext context, string id) => id switch
    {
        "10" => context.Windows(""),
        "11" => context.Windows("System32"),
        "12" => context.Windows("System32/drivers"),
        "17" => context.Windows("INF"),
        "18" => context.Windows("Help"),
        "20" => context.Windows("Fonts"),
        "24" or "30" => WindowsPath.Root,
        "16422" => WindowsPath.Parse("Program Files"),
        _ => null,
    };

    private static IEnumerable<(WindowsPath Path, byte[] Bytes)> Placed(ServiceContext context, DriverPackage package, IReadOnlyList<(string Name, byte[] Bytes)> contents)
    {
        foreach (var copy in package.Copies)
        {
            if (Directory(context, copy.DirectoryId) is { } folder)
                yield return (copy.Target.Split('/').Aggregate(folder, (at, part) => at.Child(part)), contents.First(c => c.Name.Equals(copy.Source, StringComparison.OrdinalIgnoreCase)).Bytes);
        }
    }

    private static string? Conflict(ServiceContext context, DriverPackage package, IReadOnlyList<(string Name, byte[] Bytes)> contents)
    {
        if (!package.IsBootCritical)
            return null;
        foreach (var (path, _) in Placed(context, package, contents))
        {
            if (context.Tree.Find(path) is { Entry.Kind: EntryKind.Folder })
                return $"'{path}' is a folder in the image, a driver file was to be put there";
        }
        return package.Services.Values.SelectMany(s => s).FirstOrDefault(s => Binary(s, "") is null) is { } bad
            ? $"its service '{bad.Name}' has the binary '{bad.Binary}', which has no place in an offline install" : null;
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

    private static void InstallServices(
        ServiceContext context, DriverPackage package, RegistryHive system, string published, string folder, IReadOnlyList<(string Name, byte[] Bytes)> contents)
    {
        foreach (var (path, bytes) in Placed(context, package, contents))
        {
            if (!Files.TreeFiles.IsSame(context.Tree, path, bytes))
                Put(context, path, bytes);
        }
        var services = WindowsInstall.ControlSet(system)!.Ensure("Services");
        foreach (var service in package.Services.Values.SelectMany(s => s).DistinctBy(s => s.Name, StringComparer.OrdinalIgnoreCase))
        {
            var key = services.Ensure(service.Name);
            key.SetDword("Type", service.Type);
            key.SetDword("Start", service.Start);
            key.SetDword("ErrorControl", service.ErrorControl);
            key.SetString("ImagePath", Binary(service, folder)!, RegistryType.ExpandString);
            if (service.DisplayName.Length > 0)
                key.SetString("DisplayName", service.DisplayName);
            if (service.Group.Length > 0)
                key.SetString("Group", service.Group);
            key.SetStrings("Owners", [published]);
            foreach (var value in service.Values)
                key.Ensure(value.Subkey).Set(value.Name, value.Type, value.Bytes);
        }
    }
}

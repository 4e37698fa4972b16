using System.Globalization;
using Vembar.Common;
using Vembar.Windows.Servicing.Folders;

namespace Vembar.Windows.Servicing.Drivers;

/// <summary>A driver package: an INF with what it says of itself, and the folder that holds its files.</summary>
/// <remarks>Source: the vendor's driver documentation on the INF Version and Manufacturer sections.</remarks>
public sealed class DriverPackage
{
    private DriverPackage(InfFile inf, IPackageFolder folder, string name)
    {
        Inf = inf;
        Folder = folder;
        InfName = name;
    }

    /// <summary>The INF's text.</summary>
    public InfFile Inf { get; }

    /// <summary>Where its files are.</summary>
    public IPackageFolder Folder { get; }

    /// <summary>The INF's file name.</summary>
    public string InfName { get; }

    /// <summary>The class ("SCSIAdapter").</summary>
    public string Class { get; private init; } = "";

    /// <summary>The class's id.</summary>
    public Guid ClassGuid { get; private init; }

    /// <summary>Which extension of a device's driver it is: such a package goes beside that, and never in its place. Null for a
    /// driver.</summary>
    public Guid? ExtensionId { get; private init; }

    /// <summary>Who provides it.</summary>
    public string Provider { get; private init; } = "";

    /// <summary>The date of DriverVer.</summary>
    public DateOnly Date { get; private init; }

    /// <summary>The version of DriverVer, four parts.</summary>
    public Version Version { get; private init; } = new(0, 0, 0, 0);

    /// <summary>The architectures it has models for: x86, amd64, arm64. Models without a decoration are for x86.</summary>
    public IReadOnlyList<string> Architectures { get; private init; } = [];

    /// <summary>How many devices it has drivers for, those of all architectures and versions together.</summary>
    public int DeviceCount { get; private init; }

    /// <summary>Two packages with the same line may be versions of one driver: for the devices that both serve.</summary>
    public string Line => $"{InfName}|{Provider}|{ClassGuid}".ToUpperInvariant();

    /// <summary>Whether this version of a driver is newer than that: the date counts first, then the version.</summary>
    public bool IsNewerThan(DateOnly date, Version version) => (Date, Version).CompareTo((date, version)) > 0;

    /// <summary>Reads a package.</summary>
    /// <param name="path">The INF file.</param>
    /// <exception cref="VembarException">It cannot be read, or is not the INF of a driver.</exception>
    public static DriverPackage Read(string path) => Read(FoundInf.Find(path)[0]);

    /// <summary>Reads a package that was found.</summary>
    /// <exception cref="VembarException">It cannot be read, or is not the INF of a driver.</exception>
    public static DriverPackage Read(FoundInf found)
    {
        using var stream = found.Folder.Open(found.Name);
        if (stream.CanSeek && stream.Length > InfFile.Longest)
            throw VembarException.Input("bad-inf", $"'{found.DisplayName}' is too long to be an INF file");
        return Read(InfFile.Parse(found.Folder.Read(found.Name, InfFile.Longest), found.DisplayName), found.Folder, found.Name);
    }

    /// <summary>Reads a package from its INF.</summary>
    /// <param name="inf">The INF.</param>
    /// <param name="folder">Where it lies.</param>
    /// <param name="name">Its file name.</param>
    /// <exception cref="VembarException">It is not the INF of a driver.</exception>
    public static DriverPackage Read(InfFile inf, IPackageFolder folder, string name)
    {
        string Version(string key) => inf.Line("Version", key) is { } line ? inf.Expand(line.Value(0)) : "";
        if (!inf.Has("Version"))
            throw VembarException.Input("bad-inf", $"'{inf.DisplayName}' has no [Version] section", "Is it the INF of a driver?");
        if (!(Version("Signature").ToUpperInvariant() is "$WINDOWS NT$" or "$CHICAGO$" or "$WINDOWS 95$"))
            throw VembarException.Input("bad-inf",
                $"'{inf.DisplayName}' has the signature '{Version("Signature")}'; \"$WINDOWS NT$\" is wanted",
                "Is it the INF of a driver?");
        var line = inf.Line("Version", "DriverVer");
        DateOnly.TryParseExact(line is null ? "" : inf.Expand(line.Value(0)), ["MM/dd/yyyy", "M/d/yyyy", "MM-dd-yyyy", "M-d-yyyy"],
            CultureInfo.InvariantCulture, DateTimeStyles.None, out var date);
        var makers = inf.Section("Manufacturer").Where(m => m.Value(0).Length > 0).ToList();
        var decorations = makers.SelectMany(m => m.Values.Skip(1)).Where(v => v.Length > 0).Select(TargetOs.Parse).ToList();
        var models = makers.SelectMany(m => m.Values.Skip(1).Where(v => v.Length > 0).Select(d => $"{m.Value(0)}.{d}").Append(m.Value(0)))
            .Distinct(StringComparer.OrdinalIgnoreCase);
        return new DriverPackage(inf, folder, name)
        {
            Class = Version("Class"),
            ClassGuid = Guid.TryParse(Version("ClassGuid"), out var guid) ? guid : Guid.Empty,
            ExtensionId = IsExtension(Version("Class"), Version("ClassGuid"))
            ? Guid.TryParse(Version("ExtensionId"), out var extension) ? extension : Guid.Empty : null,
            Provider = Version("Provider"),
            Date = date,
            Version = ParseVersion(line is null ? "" : inf.Expand(line.Value(1))),
            Architectures = ArchitecturesOf(inf, [.. makers.Select(m => m.Value(0))], decorations),
            DeviceCount = models.SelectMany(inf.Section).Where(l => l.Values.Count > 1)
            .Select(l => (Name: l.Key, Id: inf.Expand(l.Value(1)).ToUpperInvariant())).Distinct().Count(),
        };
    }

    private static IReadOnlyList<string> ArchitecturesOf(InfFile inf, IReadOnlyList<string> plainModels,
        IReadOnlyList<TargetOs> decorations)
    {
        var named = decorations.Select(d => d.Architecture).Where(a => a.Length > 0);
        // Models without a decoration are for x86.
        var plain = plainModels.Any(m => inf.Section(m).Count > 0) || decorations.Any(d => d.Architecture.Length == 0) ? ["x86"]
            : Array.Empty<string>();
        var all = named.Concat(plain).Distinct().Order(StringComparer.Ordinal).ToArray();
        if (all.Length > 0)
            return all;
        const string Section = FittedDriver.PrimitiveSection;
        return [.. s_architectures.Where(a => inf.Has(Section) || inf.Has($"{Section}.NT") || inf.Has($"{Section}.NT{a}"))];
    }

    private static readonly string[] s_architectures = ["amd64", "arm64", "x86"];

    private static bool IsExtension(string name, string id) =>
        name.Equals("Extension", StringComparison.OrdinalIgnoreCase) || (Guid.TryParse(id, out var guid) && guid == ExtensionClass);

    /// <summary>The class of extensions.</summary>
    public static Guid ExtensionClass { get; } = new("e2f84ce7-8efa-411c-aa77-97454ca4f3db");

    private static Version ParseVersion(string text)
    {
        var parts = text.Split('.').Select(p => ushort.TryParse(p, CultureInfo.InvariantCulture, out var n) ? n : (ushort)0)
            .Concat(new ushort[4]).Take(4).ToArray();
        return new Version(parts[0], parts[1], parts[2], parts[3]);
    }

    /// <summary>What the package holds for one Windows: its devices, services and files.</summary>
    /// <param name="windows">The Windows.</param>
    /// <param name="include">Finds an INF that this one includes, by its name; null for those of the package's own folder alone.</param>
    /// <exception cref="VembarException">The INF contradicts itself; the message has section and line.</exception>
    public FittedDriver For(WindowsTarget windows, Func<string, InfFile?>? include = null) =>
        new(this, windows, name => IncludeOf(name) ?? include?.Invoke(name));

    private InfFile? IncludeOf(string name) =>
        name.Length > 0 && name.IndexOfAny(['/', '\\']) < 0 && Folder.Length(name) is <= InfFile.Longest
        ? InfFile.Parse(Folder.Read(name, InfFile.Longest), $"{Folder.DisplayName}/{name}") : null;
}

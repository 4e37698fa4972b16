using System.Security.Cryptography;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Paths;
using Vembar.Images.Records;
using Vembar.Store.Hashing;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Packages;
using YamlDotNet.RepresentationModel;

namespace Vembar.Windows.Inspection;

/// <summary>What rules ask of programs, packages, features, drivers, languages, names and files' contents. docs/expectations.md.</summary>
internal static class InstallRules
{
    // A program, or a library; whatever is longer is no file whose version or hash one looks at.
    private const long LongestFile = 512 << 20;

    /// <summary>Reads what a rule asks.</summary>
    /// <param name="yaml">The file, which is told mistakes.</param>
    /// <param name="item">The rule.</param>
    /// <param name="subject">What it looks at.</param>
    /// <param name="fields">All that it says.</param>
    /// <param name="folder">The folder that paths are meant from.</param>
    /// <param name="isExpectation">Whether the readiness checks may be asked for.</param>
    /// <returns>What tells how an install is otherwise; null, and a mistake told, when the rule makes no sense.</returns>
    public static Func<InstallView, string?>? Read(YamlFile yaml, YamlNode item, string subject, Dictionary<string, string> fields,
        string folder, bool isExpectation)
    {
        var name = fields[subject];
        var isWanted = fields.GetValueOrDefault("present", "yes") is "yes" or "true";
        switch (subject)
        {
            case "program" or "package":
                VersionRange? range = null;
                if (fields.TryGetValue("version", out var text) && (range = RangeOf(yaml, item, text)) is null)
                    return null;
                return subject == "program"
                    ? install => Installed("program", name, isWanted, range, install.Programs.Select(p => (p.Name, p.Version)))
                    : install => Installed("package", name, isWanted, range, install.Packages.Where(p => p.ReplacedBy is null)
                        .Select(p => (p.Manifest.Name, PackageManifest.Show(p.Manifest.Version))));
            case "feature":
                if (fields["is"] is not ("on" or "off" or "true" or "false" or "yes" or "no"))
                {
                    yaml.Wrong(item, "a feature 'is' on or off");
                    return null;
                }
                return install => Feature(install, name, fields["is"] is "on" or "true" or "yes");
            case "drivers":
                return Drivers(yaml, item, Path.GetFullPath(name, folder));
            case "language":
                return install => (install.Locale?.Languages ?? []).Contains(name, StringComparer.OrdinalIgnoreCase) == isWanted ? null
                    : $"there are {Listed(install.Locale?.Languages ?? [])}";
            case "time-zone":
                return install => Compare(install.Locale?.TimeZone, name);
            case "computer-name":
                return install => Compare(install.Install?.ComputerName, name);
            case "state":
                return install => Compare(install.Install?.State, name);
            default:
                return Ready(yaml, item, name, isExpectation);
        }
    }

    private static string Listed(IEnumerable<string> texts) => string.Join(", ", texts) is { Length: > 0 } list ? list : "none";

    private static string? Compare(string? found, string pattern) =>
        found is { Length: > 0 } ? Wildcard.Matches(pattern, found) ? null : $"it is {found}" : "it is not known";

    private static VersionRange? RangeOf(YamlFile yaml, YamlNode item, string text)
    {
        if (VersionRange.Parse(text) is { } range)
            return range;
        yaml.Wrong(item, $"'{text}' is no version: write 7.4, 7.*, \">= 7.4\" or \">= 7.4, < 8\"");
        return null;
    }

    private static string? Installed(string kind, string pattern, bool isWanted, VersionRange? range,
        IEnumerable<(string Name, string Version)> all)
    {
        var named = all.Where(a => Wildcard.Matches(pattern, a.Name)).ToList();
        string Found() => string.Join(", ", named.Select(n => $"{n.Name} {n.Version}".TrimEnd()));
        if (!isWanted)
            return named.Count == 0 ? null : $"{Found()} is there";
        if (named.Count == 0)
            return $"there is no such {kind}";
        return range is null || named.Exists(n => range.Holds(n.Version)) ? null : $"{Found()} is there";
    }

    private static string? Feature(InstallView install, string name, bool isOn)
    {
        var found = install.Packages.Where(p => p.ReplacedBy is null).SelectMany(p => p.Features)
            .FirstOrDefault(f => f.Feature.Name.Equals(name, StringComparison.OrdinalIgnoreCase));
        return found.Feature is null ? "there is no such feature" : found.IsOn == isOn ? null : found.IsOn ? "it is on" : "it is off";
    }

    private static Func<InstallView, string?>? Drivers(YamlFile yaml, YamlNode item, string path)
    {
        IReadOnlyList<HardwareProfile> profiles;
        try
        {
            profiles = HardwareProfile.ReadAll([path]);
        }
        catch (VembarException problem)
        {
            yaml.Wrong(item, problem.Message);
            return null;
        }
        return install =>
        {
            var candidates = install.Drivers.Where(d => d.Ids.Count > 0).Select(d => CandidateDriver.Of(d, null, isSigned: true)).ToList();
            var without = Coverage.Of(profiles, candidates)
                .SelectMany(m => m.Devices.Where(d => d.Device.Needed && d.Chosen is null).Select(d => $"{d.Device.Name} of {m.Model}"))
                    .ToList();
            return without.Count == 0 ? null : $"no driver for {string.Join(", ", without)}";
        };
    }

    private static Func<InstallView, string?>? Ready(YamlFile yaml, YamlNode item, string word, bool isExpectation)
    {
        if (!isExpectation)
        {
            yaml.Wrong(item, "'ready' is for expectations: here the readiness checks are made anyway");
            return null;
        }
        if (!Enum.TryParse<Severity>(word, ignoreCase: true, out var least) || !Enum.IsDefined(least))
        {
            yaml.Wrong(item, $"'{word}' is not one of stop, warn, note");
            return null;
        }
        return install =>
        {
            var findings = install.Readiness?.Invoke().Where(f => f.Severity >= least).ToList() ?? [];
            return findings.Count == 0 ? null : string.Join("; ", findings.Select(f => $"{f.Check}: {f.Text}"));
        };
    }

    /// <summary>A rule on the version that a program file carries.</summary>
    public static Func<InstallView, string?>? FileVersion(YamlFile yaml, YamlNode item, WindowsPath path, string text)
    {
        if (RangeOf(yaml, item, text) is not { } range)
            return null;
        return install => install.Source.ReadFile(path, LongestFile) is not { } file ? $"{path} is missing"
            : ProgramVersion.Of(file) is not { } version ? $"{path} carries no version"
            : range.Holds(version) ? null : $"{path} is {version}";
    }

    /// <summary>A rule on what is in a file.</summary>
    public static Func<InstallView, string?>? FileHash(YamlFile yaml, YamlNode item, WindowsPath path, string text)
    {
        const int HashLength = 64;
        const string Sha256Prefix = "sha256:", Blake3Prefix = "blake3:";
        var isSha = text.StartsWith(Sha256Prefix, StringComparison.OrdinalIgnoreCase);
        var hex = isSha ? text[Sha256Prefix.Length..]
            : text.StartsWith(Blake3Prefix, StringComparison.OrdinalIgnoreCase) ? text[Blake3Prefix.Length..] : text;
        if (hex.Length != HashLength || !hex.All(char.IsAsciiHexDigit))
        {
            yaml.Wrong(item, $"'{text}' is no hash: 64 hexadecimal digits of BLAKE3, as `files` shows, or of SHA-256 behind 'sha256:'");
            return null;
        }
        return install =>
        {
            if (install.Source.ReadFile(path, LongestFile) is not { } file)
                return $"{path} is missing";
            var found = isSha ? Convert.ToHexStringLower(SHA256.HashData(file)) : Blake3.Hash(file).ToString();
            return found.Equals(hex, StringComparison.OrdinalIgnoreCase) ? null : $"{path} has {(isSha ? Sha256Prefix : "")}{found}";
        };
    }
}

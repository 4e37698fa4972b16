using Vembar.Windows.Servicing.Drivers;
using Xunit;

namespace Vembar.Tests;

/// <summary>INF files written as vendors write them. What is expected of each stands in its first lines.</summary>
public class VendorCorpusTests
{
    private const string Mark = "; expect ";

    internal static string Folder() => Path.Combine(Repository.Root, "tests/Vembar.Tests/Corpus/inf");

    public static TheoryData<string> Files() =>
        [.. Directory.GetFiles(Folder(), "*.inf").Select(f => Path.GetFileNameWithoutExtension(f)).Order(StringComparer.Ordinal)];

    [Fact]
    public void TheCorpusIsThere() => Assert.True(Files().Count >= 25);

    [Theory]
    [MemberData(nameof(Files))]
    public void IsReadAsItsVendorMeantIt(string name)
    {
        using var folder = new TempFolder();
        var inf = folder.At($"{name}.inf");
        File.Copy(Path.Combine(Folder(), $"{name}.inf"), inf);
        var expected = File.ReadAllLines(inf).Where(l => l.StartsWith(Mark, StringComparison.Ordinal))
            .Select(l => l[Mark.Length..].Split(": ", 2)).ToDictionary(p => p[0].TrimEnd(':'), p => p.Length > 1 ? p[1] : "");
        foreach (var file in List(expected["files"]).Where(f => f != $"{name}.inf"))
            folder.Write(file, file);

        var package = DriverPackage.Read(inf);
        var driver = package.For(new WindowsTarget(expected["windows"], 10, 26100));

        var told = new Dictionary<string, string>
        {
            ["windows"] = driver.Windows.Architecture,
            ["devices"] = $"{driver.Devices.Count}",
            ["files"] = Joined(driver.Files),
            ["services"] = Joined(driver.Services.Select(s => s.Name)),
            ["components"] = Joined(driver.Sections.Values.SelectMany(s => s.Components)),
            ["left"] = Joined(driver.LeftToWindows),
            ["boot"] = driver.IsBootCritical ? "yes" : "no",
            ["primitive"] = driver.IsPrimitive ? "yes" : "no",
            ["extension"] = package.ExtensionId?.ToString("B") ?? "",
            ["copies"] = Joined(driver.CopiedInfs),
            ["includes-missing"] = Joined(driver.MissingIncludes),
            ["class"] = package.Class,
            ["device-id"] = driver.Devices is [var first, ..] ? first.Ids[0] : "",
            ["description"] = driver.Devices is [var one, ..] ? one.Description : "",
            ["dirs"] = Joined(driver.Copies.Select(c => c.DirectoryId)),
            ["note"] = expected.GetValueOrDefault("note", ""),
        };
        foreach (var (key, value) in expected)
            Assert.Equal($"{key}: {(key is "files" or "services" or "left" or "includes-missing" ? Joined(List(value)) : value)}",
                $"{key}: {told[key]}");
        Assert.Empty(driver.MissingFiles);
        Assert.Contains(expected["windows"], package.Architectures);
        Assert.NotEqual(default, package.Date);
        // What is written anew from its lines is read as the same.
        Assert.Equal(driver.StoreFolder(), DriverPackage.Read(inf).For(driver.Windows).StoreFolder());
    }

    private static IEnumerable<string> List(string text) => text.Split(", ", StringSplitOptions.RemoveEmptyEntries);

    private static string Joined(IEnumerable<string> texts) =>
        string.Join(", ", texts.Distinct(StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase));
}

using Vembar.Images.Paths;
using Vembar.Operations;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Languages;
using Vembar.Windows.Servicing.Packages;
using Xunit;

namespace Vembar.Tests;

public class LanguageTests(DemoFixture demo)
{
    private static LocaleSettings Locale(string archive) => Do.Show(ImageReference.Parse(archive)).Locale!;

    private static string Hive(TempFolder folder, string archive, string path, string key) => Do.WithTree(archive, 1, tree =>
    {
        File.WriteAllBytes(folder.At("hive"), tree.ReadFile(WindowsPath.Parse(path), 1 << 28)!);
        return Tools.Run("reglookup", ["-p", key, folder.At("hive")]);
    });

    [Fact]
    public void TimeZonesOfTheOtherNamingAreToldAsWindowsCallsThem()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        Assert.Equal("Windows calls this time zone 'GMT Standard Time'",
            Do.Service(archive, null, new TimeZoneChange("Europe/London")).Changes.Single().Why);
        Assert.Contains("Windows calls this time zone 'Central European Standard Time'",
            Do.Service(archive, null, new TimeZoneChange("Europe/Warsaw")).Changes.Single().Why, StringComparison.Ordinal);
    }

    [Fact]
    public void ALanguageIsSetOnceItIsThere()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        var refused = Do.Service(archive, null, new LocaleChange("pl-PL", [])).Changes.Single();
        Assert.Equal((ChangeStatus.Refused, "the image does not have the language pl-PL; it has en-GB; a language package brings it"),
            (refused.Status, refused.Why));
        Assert.Equal(ChangeStatus.Refused, Do.Service(archive, null, new LocaleChange("pl-PL", ["user"])).Changes.Single().Status);
        // The package and what it makes possible, in one run.
        var done = Do.Service(archive, null, new PackageChange([demo.At("packages/polish-1.0.zip")]), new LocaleChange("pl-pl", []),
            new TimeZoneChange("w. europe standard time"));
        Assert.All(done.Changes, c => Assert.Equal(ChangeStatus.Done, c.Status));
        Assert.Equal(["en-GB", "pl-PL"], done.Image.Languages);
        var now = Locale(archive);
        Assert.Equal(("pl-PL", "pl-PL", "pl-PL", "0415:00000415", "W. Europe Standard Time"),
            (now.Display, now.System, now.User, now.Keyboard, now.TimeZone));
        const string System = "Windows/System32/config/SYSTEM", Control = "/ControlSet001/Control";
        var pages = Hive(folder, archive, System, $"{Control}/Nls/CodePage");
        Assert.Contains("ACP,SZ,1250", pages, StringComparison.Ordinal);
        Assert.Contains("OEMCP,SZ,852", pages, StringComparison.Ordinal);
        Assert.Contains("Default,SZ,0415", Hive(folder, archive, System, $"{Control}/Nls/Language"), StringComparison.Ordinal);
        var zone = Hive(folder, archive, System, $"{Control}/TimeZoneInformation");
        Assert.Contains("Bias,DWORD,0xFFFFFFC4", zone, StringComparison.Ordinal);
        Assert.Contains("StandardName,SZ,W. Europe Standard Time", zone, StringComparison.Ordinal);
        var formats = Hive(folder, archive, "Users/Default/NTUSER.DAT", "/Control Panel/International");
        Assert.Contains("LocaleName,SZ,pl-PL", formats, StringComparison.Ordinal);
        Assert.DoesNotContain("sShortDate", formats, StringComparison.Ordinal);
        Assert.All(Do.Service(archive, null, new LocaleChange("pl-PL", []), new TimeZoneChange("W. Europe Standard Time")).Changes,
            c => Assert.Equal(ChangeStatus.Already, c.Status));
    }

    [Fact]
    public void PartsAreSetByThemselves()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        // Formats of the same language need no package.
        Do.Service(archive, null, new LocaleChange("en-IE", ["user"]), new LocaleChange("en-GB", ["input"], "0809:00000409"));
        var now = Locale(archive);
        Assert.Equal(("en-GB", "en-GB", "en-IE", "0809:00000409"), (now.Display, now.System, now.User, now.Keyboard));
        Assert.Contains("00000809,SZ,00000409", Hive(folder, archive, "Users/Default/NTUSER.DAT", "/Keyboard Layout/Substitutes"),
            StringComparison.Ordinal);
        Do.Service(archive, null, new LocaleChange("en-GB", ["input"]));
        Assert.Equal("0809:00000809", Locale(archive).Keyboard);
    }

    [Fact]
    public void WhatCannotBeSetIsSaid()
    {
        using var folder = new TempFolder();
        var archive = demo.CopyArchive(folder);
        (IChange Change, string Why)[] cases =
        [
            (new LocaleChange("en-GX", []), "is not a locale that is known here; did you mean 'en-GB'?"),
            (new LocaleChange("en-GB", ["shown"]), "'shown' is not a part of it; display, system, user, input are"),
            (new LocaleChange("en-IE", ["display"]), "the image does not have the language en-IE"),
            (new LocaleChange("en-GB", [], "qwerty"), "'qwerty' is not a keyboard"),
            (new TimeZoneChange("GMT Standart Time"), "did you mean 'GMT Standard Time'?"),
            (new TimeZoneChange("Moon"), "the image does not know this time zone"),
        ];
        foreach (var (change, why) in cases)
        {
            var outcome = Do.Service(archive, null, change).Changes.Single();
            Assert.Equal(ChangeStatus.Refused, outcome.Status);
            Assert.Contains(why, outcome.Why, StringComparison.Ordinal);
        }
    }

    [Fact]
    public void EveryKnownLocaleIsWhole()
    {
        Assert.All(KnownLocale.Names, n => Assert.Matches("^[0-9a-f]{8}$", KnownLocale.Named(n)!.Layout));
        Assert.Equal(KnownLocale.Names.Count(), KnownLocale.Names.Select(n => KnownLocale.Named(n)!.Id).Distinct().Count());
        Assert.Equal(("0452", 1252), (KnownLocale.Named("CY-gb")!.Number, KnownLocale.Named("cy-GB")!.CodePage));
    }
}

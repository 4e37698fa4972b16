using CsCheck;
using Vembar.Common;
using Vembar.Windows.Servicing.Drivers;
using Vembar.Windows.Servicing.Folders;
using Xunit;

namespace Vembar.Tests;

public class InfTests(DemoFixture demo)
{
    private static InfFile Parse(string text) => InfFile.Parse(System.Text.Encoding.UTF8.GetBytes(text), "test.inf");

    [Fact]
    public void TheTextFormatIsReadWhole()
    {
        var inf = Parse(
            """
            ; a remark before everything
            [Version]   ; behind a heading
            Signature="$WINDOWS NT$"
            Quoted = "a ""b"" c; d", plain ; remark
            [list]
            one, two,,four
            "with, comma", %Name%
            long = first, \
                   second, \
                   third
            [LIST]
            again
            [Strings]
            Name = "Outer %Inner% 100%%"
            Inner = in
            Empty =
            """);
        Assert.Equal(["a \"b\" c; d", "plain"], inf.Line("version", "QUOTED")!.Values);
        var list = inf.Section("list");
        Assert.Equal(["one", "two", "", "four"], list[0].Values);
        Assert.Equal("with, comma", list[1].Value(0));
        Assert.Equal("Outer in 100%", inf.Expand(list[1].Value(1)));
        Assert.Equal(["first", "second", "third"], list[2].Values);
        Assert.Equal("again", list[3].Value(0));
        Assert.Equal("%Unknown%", inf.Expand("%Unknown%"));
        Assert.Equal("", inf.Expand("%Empty%"));
    }

    [Theory]
    [InlineData("utf-16")]
    [InlineData("utf-16BE")]
    [InlineData("utf-8")]
    [InlineData("iso-8859-1")]
    public void EveryEncodingIsRead(string name)
    {
        var encoding = System.Text.Encoding.GetEncoding(name);
        byte[] bytes = [.. encoding.GetPreamble(), .. encoding.GetBytes("[Strings]\r\nName = \"Größe\"\r\n")];
        Assert.Equal("Größe", InfFile.Parse(bytes, "x").Expand("%Name%"));
        Assert.Equal("Größe",
            InfFile.Parse([.. encoding.GetBytes("[Strings]\r\nName = \"Größe\"\r\n\x1A[broken")], "x").Expand("%Name%"));
    }

    [Fact]
    public void TextsComeInTheLanguageOfTheInstall()
    {
        var inf = Parse("[Strings]\na = plain\nb = only\n[Strings.0452]\na = Cymraeg\n[Strings.0007]\na = deutsch\n[Strings.0809]\na = "
            + "British\n[Strings.0409]\na = American\n");
        Assert.Equal(["American", "Cymraeg", "deutsch", "British", "plain", "only"],
            [inf.Expand("%a%"), inf.In(0x452).Expand("%a%"), inf.In(0xC07).Expand("%a%"), inf.In(0x809).Expand("%a%"),
            inf.In(0x40C).Expand("%a%"), inf.In(0x809).Expand("%b%")]);
    }

    [Fact]
    public void ATextThatIsCutOffInACharacterIsTold() =>
        Assert.Contains("cut off", Assert.Throws<VembarException>(() => InfFile.Parse([0xFF, 0xFE, 0x5B, 0x00, 0x41], "x")).Message,
        StringComparison.Ordinal);

    [Theory]
    [InlineData("text first", "line 1")]
    [InlineData("[Version]\n[broken", "line 2")]
    [InlineData("[Version]\na=\0b", "line 2")]
    public void MistakesAreToldWithTheirLine(string text, string place) =>
        Assert.Contains(place, Assert.Throws<VembarException>(() => Parse(text)).Message, StringComparison.Ordinal);

    [Fact]
    public void TokensThatNameThemselvesEnd()
    {
        var inf = Parse("[Strings]\na = \"%b%%b%\"\nb = \"%a%%a%\"\n");
        Assert.Equal("bad-inf", Assert.Throws<VembarException>(() => inf.Expand("%a%")).Code);
    }

    [Fact]
    public void HostileTextsEndInAnErrorAtWorst()
    {
        Gen.Int[0, 13].Array[0, 40].Select(picks => string.Concat(picks.Select(i => s_parts[i]))).Sample(text =>
        {
            try
            {
                var inf = Parse(text);
                foreach (var section in inf.SectionNames)
                {
                    foreach (var line in inf.Section(section))
                        inf.Expand(line.Value(0));
                }
                DriverPackage.Read(inf, new DiskPackageFolder("/nowhere"), "test.inf").For(new WindowsTarget("amd64", 10, 26100));
            }
            catch (VembarException)
            {
                // That is what it is for.
            }
        }, iter: 3000);
    }

    private static readonly string[] s_parts = ["[Version]\n", "[Strings]\n", "[Manufacturer]\n", "Signature=\"$WINDOWS NT$\"\n",
        "x=%y%\n", "\"", "\\\n", ";", ",", "=", "%", "[", "m=v,NTamd64\n[v.NTamd64]\nd=i,ID\n[i]\nCopyFiles=@..\\x\n", "y=\"%x%\"\n"];

    [Theory]
    [InlineData("NTamd64", "amd64", 26100, true)]
    [InlineData("NTarm64", "amd64", 26100, false)]
    [InlineData("NT", "amd64", 26100, true)]
    [InlineData("NTamd64.10.0...22000", "amd64", 19045, false)]
    [InlineData("NTamd64.10.0...22000", "amd64", 26100, true)]
    [InlineData("NTamd64.6.1", "amd64", 26100, true)]
    [InlineData("NTamd64.11.0", "amd64", 26100, false)]
    [InlineData("NTamd64.10.0.3", "amd64", 26100, false)]
    [InlineData("NTamd64.10.0.1", "amd64", 26100, true)]
    public void DecorationsSayWhichWindowsIsMeant(string text, string architecture, int build, bool fits) =>
        Assert.Equal(fits, TargetOs.Parse(text).Fits(new WindowsTarget(architecture, 10, build)));

    [Fact]
    public void TheMoreSpecificDecorationIsGreater()
    {
        Assert.True(TargetOs.Parse("NTamd64.10.0...22000") > TargetOs.Parse("NTamd64.10.0"));
        Assert.True(TargetOs.Parse("NTamd64.10.0") > TargetOs.Parse("NTamd64"));
        Assert.True(TargetOs.Parse("NTamd64") > TargetOs.Parse("NT"));
    }

    [Fact]
    public void APackageSaysWhatItIs()
    {
        var package = DriverPackage.Read(Path.Combine(demo.Driver("corrin-storage"), "corstor.inf"))
            .For(new WindowsTarget("amd64", 10, 26100));
        Assert.Equal(("SCSIAdapter", "Corrin Silicon", new Version(4, 2, 118, 0), new DateOnly(2026, 3, 17)),
            (package.Package.Class, package.Package.Provider, package.Package.Version, package.Package.Date));
        Assert.Equal(["amd64"], package.Package.Architectures);
        Assert.Equal(3, package.Devices.Count);
        Assert.Equal("Corrin Silicon CS-480 \"Twin\" array controller", package.Devices[2].Description);
        Assert.Equal(["PCI\\VEN_F1C0&DEV_0480&CC_0104", "PCI\\VEN_F1C0&CC_0104"], package.Devices[2].Ids);
        Assert.True(package.IsBootCritical);
        Assert.Equal(["corstor.inf", "corstor.cat", "x64/corstor.sys"], package.Files);
        var service = package.Sections["CorStor_Inst.NTamd64"].Services.Single();
        Assert.Equal((1u, 0u, 3u, @"%12%\corstor.sys", "SCSI miniport", true),
            (service.Type, service.Start, service.ErrorControl, service.Binary, service.Group, service.IsFunction));
        Assert.Equal("CS400-A\0CS400-B\0CS410\0\0",
            System.Text.Encoding.Unicode.GetString(service.Edits.Single(v => v.Name == "Firmware").Bytes));
        Assert.Equal(254u, BitConverter.ToUInt32(service.Edits.Single(v => v.Name == "QueueDepth").Bytes));
        Assert.Empty(DriverPackage.Read(Path.Combine(demo.Driver("corrin-storage"), "corstor.inf"))
            .For(new WindowsTarget("amd64", 10, 15063)).Devices);
    }

    [Fact]
    public void SourcePathsAndDestinationsAreFollowed()
    {
        var audio = DriverPackage.Read(Path.Combine(demo.Driver("brightwell-audio"), "bwaudio.inf"))
            .For(new WindowsTarget("amd64", 10, 26100));
        Assert.Equal(["bwaudio.inf", "bwaudio.cat", "bwaudio.sys", "tools/bwequal.dll", "rooms/kiosk.eqp"], audio.Files);
        Assert.Equal(("13", "bwequal.dll"), (audio.Copies[1].DirectoryId, audio.Copies[1].Target));
        Assert.All(audio.Files, f => Assert.NotNull(audio.Package.Folder.Length(f)));
        Assert.False(audio.IsBootCritical);
        var network = DriverPackage.Read(Path.Combine(demo.Driver("corrin-network"), "cornet.inf"));
        Assert.Equal(["amd64", "arm64"], network.Architectures);
        Assert.Equal("arm64/cornet.sys", network.For(new WindowsTarget("arm64", 10, 26100)).Copies.Single().Source);
        Assert.Equal("x64/cornet.sys", network.For(new WindowsTarget("amd64", 10, 26100)).Copies.Single().Source);
    }

    [Theory]
    [InlineData(@"@..\..\evil.sys")]
    [InlineData("@con")]
    [InlineData("@C:evil.sys")]
    public void PathsOutOfThePackageAreRefused(string copy)
    {
        var inf = Parse($"[Version]\nSignature=\"$WINDOWS "
            + $"NT$\"\n[Manufacturer]\nm=v,NTamd64\n[v.NTamd64]\nd=i,ID\n[i]\nCopyFiles={copy}\n[DestinationDirs]\nDefaultDestDir=12\n");
        Assert.Contains("not a path inside",
            Assert.Throws<VembarException>(() => DriverPackage.Read(inf, new DiskPackageFolder("/x"), "test.inf")
            .For(new WindowsTarget("amd64", 10, 26100))).Message, StringComparison.Ordinal);
    }
}
